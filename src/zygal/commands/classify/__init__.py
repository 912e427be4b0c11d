"""Predictions for a few images, or for very many into a file."""
