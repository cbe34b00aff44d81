"""The close look: one image large, what the network receives, its ranked classes and its heatmaps."""
