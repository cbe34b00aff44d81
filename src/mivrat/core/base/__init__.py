"""The ground: errors, files, text, long jobs, what is kept in caches, the log."""
