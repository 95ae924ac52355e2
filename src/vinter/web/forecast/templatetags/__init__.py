"""Drawings of the forecast."""
