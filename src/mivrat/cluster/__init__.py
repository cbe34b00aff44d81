"""Scoring on a cluster: what workers do, and the scheduler they stand behind."""
