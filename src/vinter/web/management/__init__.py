"""Commands of the whole application."""
