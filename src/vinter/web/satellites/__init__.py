"""Passes of space stations: orbital elements a person imports, and the passes of a night."""
