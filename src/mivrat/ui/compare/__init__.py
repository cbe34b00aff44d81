"""The Compare step: what is held against the run shown."""
