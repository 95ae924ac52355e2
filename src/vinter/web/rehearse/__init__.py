"""Practising before the night, with the simulated phone and a coach."""
