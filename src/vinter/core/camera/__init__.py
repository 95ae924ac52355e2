"""What a phone's lens and sensor make of a night: trailing, photons, ISO, frames. Equations:
docs/models.md."""
