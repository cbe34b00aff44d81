"""The report of a run: what it says, its diagrams and pictures, and its files."""
