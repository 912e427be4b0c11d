"""Witnesses, and what they prove: recordings of the training side, compared gate by gate."""
