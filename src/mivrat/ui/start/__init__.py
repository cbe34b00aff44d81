"""The start page and the new-study page."""
