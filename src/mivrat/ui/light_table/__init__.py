"""The light table: thumbnails of the selected images."""
