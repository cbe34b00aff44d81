"""A model's answers for a set of images: worked out batch by batch, and judged."""
