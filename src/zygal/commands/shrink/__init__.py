"""An artifact in lower precision."""
