"""The first page: the next good window, and the work under way."""
