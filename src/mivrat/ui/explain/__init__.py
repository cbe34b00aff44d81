"""The Explain step: a board of heatmaps, cover tests, where the evidence lies, and whether the maps can be trusted."""
