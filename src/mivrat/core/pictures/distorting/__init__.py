"""Distortions of decoded photos, in physical terms, for the strain test."""
