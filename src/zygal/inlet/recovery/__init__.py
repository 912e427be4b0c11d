"""Working the inlet out from what training made of some images."""
