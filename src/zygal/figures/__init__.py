"""Everything that is drawn. Figures take plain data and write PNG files; no display is needed."""
