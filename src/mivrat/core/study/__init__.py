"""The study file, the only owner of what is kept."""
