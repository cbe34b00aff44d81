"""The Prepare step: models, image sets, classes, recipe, and a first try."""
