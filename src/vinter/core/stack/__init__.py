"""From a take to one clean linear picture: registration, sky and ground, combining, report."""
