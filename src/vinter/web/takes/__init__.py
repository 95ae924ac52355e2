"""Frames brought home."""
