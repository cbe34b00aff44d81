"""Image sets, class lists, decoding and recipes."""
