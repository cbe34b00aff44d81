"""Models answer scores for a batch of prepared images."""
