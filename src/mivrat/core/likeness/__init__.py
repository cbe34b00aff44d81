"""Which images are alike to the model: its last features, search among them, and groups."""
