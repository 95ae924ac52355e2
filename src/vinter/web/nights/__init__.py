"""Choosing the night."""
