"""ONNX: written, validated, read back, and read as a graph for the reference engine."""
