"""Regions of images, and the cover test: hide a region, and see what becomes of the answer."""
