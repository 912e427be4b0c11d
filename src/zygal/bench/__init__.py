"""Batch inference on the CPU, measured: throughput, latency, and how far to trust them."""
