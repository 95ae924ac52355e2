"""Practising with the simulated phone: situations, a limited number of test shots, and a coach who
measures."""
