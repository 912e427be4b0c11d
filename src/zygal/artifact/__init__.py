"""The artifact: a graph as a file that explains itself, and back; one folder for each format."""
