"""How right a classifier is on labelled images, and how far those images can be trusted."""
