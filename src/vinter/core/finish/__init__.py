"""The edit: a typed recipe, a chain of steps on sky and ground apart, and what the data can bear."""
