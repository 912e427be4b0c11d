"""Signing off: what must hold of an artifact, stated in a plan; everything measured by it; one verdict and one page."""
