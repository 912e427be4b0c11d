"""An artifact and its preprocessing against a recording of the training framework."""
