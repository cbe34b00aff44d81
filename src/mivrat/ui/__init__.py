"""The window: views over the study and the selection; the only place that knows the interface toolkit."""
