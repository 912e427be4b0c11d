"""What every part must know of a classifier: labels, scores, the choice of an output, layouts, metadata, fit."""
