"""Places."""
