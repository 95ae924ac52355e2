"""Planning a shot."""
