"""Explains the answers of a run: heatmaps over a selection, whether they can be trusted, and cover tests that are kept."""
