"""The field card."""
