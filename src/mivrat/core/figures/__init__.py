"""Figures as pure functions of arrays."""
