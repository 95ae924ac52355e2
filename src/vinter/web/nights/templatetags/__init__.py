"""Drawings of nights."""
