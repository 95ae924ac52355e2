"""Phones and lenses."""
