"""Batch inference on this machine, of a service, or on a cluster."""
