"""Predictions for image files: the inlet makes tensors, the engine scores them, scores become probabilities and
names."""
