"""Long work."""
