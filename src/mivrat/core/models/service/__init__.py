"""Prediction services as models: how one is described, asked, and what its answers mean."""
