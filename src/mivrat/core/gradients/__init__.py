"""From an ONNX graph to the ONNX graph of its derivatives."""
