"""The moves of an edit, one a file: what it can be set to, how it is shown, and what it does to the
picture."""
