"""What a classifier answers about images: read by the inlet, run, and turned into probabilities and names."""
