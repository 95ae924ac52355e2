"""Drawings of frames."""
