"""The ways to run a model on a batch of tensors. Each engine is built by a function of its own module."""

from zygal.engines.engine import Engine, run_in_batches

__all__ = ["Engine", "run_in_batches"]
