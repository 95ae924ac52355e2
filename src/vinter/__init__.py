"""Vinter: plan, shoot, stack and finish Milky Way pictures taken with a phone."""

__version__ = "0.1.0"
