"""Drawings of shots."""
