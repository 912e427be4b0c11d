"""The live framework that a source belongs to."""

from __future__ import annotations

from pathlib import Path

from zygal import kinds
from zygal.engines.engine import Engine


def open_live_engine(path: str | Path, output: str | None = None) -> Engine:
    """A source's file in the framework that made it. output: which of its outputs, by the name that survey gives it; the first
    unless named. Raises EngineError if the framework is not installed, SourceError if there is no such output."""
    if kinds.kind_of(path) in (kinds.KERAS_ARCHIVE, kinds.HDF5):
        from zygal.engines.keras import KerasEngine

        return KerasEngine(path, output)
    from zygal.engines.pytorch import PyTorchEngine

    return PyTorchEngine(path, output)
