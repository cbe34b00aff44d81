"""Conclusions that others can check again: criteria, findings, and what has become of them under another run."""
