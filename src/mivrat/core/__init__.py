"""The job itself: everything Mivrat works out, with no window."""
