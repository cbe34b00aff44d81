"""Which images are shown: conditions, orders, bands, and selections kept under a name."""
