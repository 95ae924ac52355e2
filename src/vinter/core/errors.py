"""The one error the core raises for input a person can correct."""


class BadInput(ValueError):
    """What was wrong, in one sentence that names the field or the file."""
