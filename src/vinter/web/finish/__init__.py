"""Finishing a stack."""
