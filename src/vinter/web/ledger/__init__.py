"""The record."""
