"""Mivrat finds out how good a trained image classifier is, where it fails, and why."""

__version__ = "0.1.0"
