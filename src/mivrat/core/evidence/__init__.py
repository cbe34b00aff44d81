"""Heatmaps through the reverse pass of an ONNX graph."""
