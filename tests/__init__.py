"""Tests of Mivrat; they stand at the same paths as what they test."""
