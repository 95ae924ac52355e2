"""The web application: one small app per step of the work, in the order of the work."""
