"""The preprocessing of a recording, found."""
