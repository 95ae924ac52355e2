"""The job's rules and computation: NumPy in, plain dataclasses out, no interface code."""
