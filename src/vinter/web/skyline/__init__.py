"""The view from the stand, and where to stand."""
