"""TensorFlow's own files, read without it: saved-model folders, frozen graphs and web models of a graph."""
