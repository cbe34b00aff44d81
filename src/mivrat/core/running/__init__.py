"""The pipeline that decodes, prepares and scores, batch by batch."""
