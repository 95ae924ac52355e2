"""Compiled loops of the finish."""
