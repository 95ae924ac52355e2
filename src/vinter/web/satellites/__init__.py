"""Satellites over a site: whose orbits a person imported, and when they pass."""
