"""The open study as a window sees it, with no window: what is open, what is shown, edits, jobs, and what is said of them."""
