"""Ratios measured side by side in one run; absolute times say little on a shared machine."""
