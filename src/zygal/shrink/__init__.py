"""Artifacts in lower precision: 8-bit scales and weights, which layers stay in float, and what it loses and gains."""
