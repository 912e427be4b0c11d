"""The accuracy of a classifier on labelled images, and how far those images can be trusted."""
