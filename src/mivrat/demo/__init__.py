"""The made-up demonstration data and what drew it."""
