"""Metrics of an artifact on labelled images."""
