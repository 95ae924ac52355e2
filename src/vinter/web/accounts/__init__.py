"""Signing in, and the demo data."""
