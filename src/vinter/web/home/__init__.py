"""The first page: the next good night, and the work under way."""
