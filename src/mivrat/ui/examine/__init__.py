"""The Examine step: what was seen in single images, and the patterns that it adds up to."""
