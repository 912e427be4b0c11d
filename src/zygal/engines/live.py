"""The live framework that a source belongs to."""

from __future__ import annotations

from pathlib import Path

from zygal import kinds
from zygal.engines.engine import LiveEngine
from zygal.sources.live import KERAS
from zygal.sources.opened import SourceFile


def open_live_engine(source: str | Path | SourceFile, output: str | None = None, classes: int | None = None) -> LiveEngine:
    """A source in the framework that made it; of FILE.py:FUNCTION the very object that the function returned.

    output: which of its outputs, by the name that survey gives it; the one that looks like class scores unless named. classes:
    how many classes there are, if it is known. Raises EngineError if the framework is not installed, SourceError if there is no
    such output.
    """
    source = SourceFile.of(source)
    live, estimator, classes = source.live, source.estimator, source.columns_wanted(classes)
    model = live and live.model
    if (live.framework == KERAS) if live else kinds.trained_kind(source.path) in (kinds.KERAS_ARCHIVE, kinds.HDF5):
        from zygal.engines.keras import KerasEngine

        engine = KerasEngine(source.path, output, classes, model)
    else:
        from zygal.engines.pytorch import PyTorchEngine

        engine = PyTorchEngine(source.path, output, classes, model)
    # The user knows the source by its name, not by the file that it was saved to.
    engine.path = Path(source.name)
    if estimator is None:
        return engine
    from zygal.engines.estimator import EstimatorEngine

    return EstimatorEngine(engine, estimator)
