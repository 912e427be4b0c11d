"""ONNX files as messages: loaded and validated, and what they say of themselves; no graph of ours yet."""
