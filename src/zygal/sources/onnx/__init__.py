"""ONNX files of anyone's as sources, and the graphs of all artifacts."""
