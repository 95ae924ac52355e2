"""Stacking a take."""
