"""A stand-in prediction service: an ONNX file behind the Open Inference Protocol, to try out how services are asked."""
