"""The live framework that a source belongs to."""

from __future__ import annotations

from pathlib import Path

from zygal import kinds
from zygal.engines.engine import Engine


def live_engine(path: str | Path) -> Engine:
    """A source's file in the framework that made it. Raises EngineError if that is not installed."""
    if kinds.kind_of(path) in (kinds.KERAS_ARCHIVE, kinds.HDF5):
        from zygal.engines.keras import KerasEngine

        return KerasEngine(path)
    from zygal.engines.pytorch import PyTorchEngine

    return PyTorchEngine(path)
