"""The live framework that a source belongs to."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from zygal.engines.engine import LiveEngine
from zygal.files.families import Reading, family_named
from zygal.files.recognition import family_of
from zygal.sources.opened import SourceFile


def open_live_engine(
    source: str | Path | SourceFile,
    output: str | None = None,
    classes: int | None = None,
    reading: Reading = Reading(),
    image_shape: tuple[int, ...] | None = None,
) -> LiveEngine:
    """A source in the framework that made it; of FILE.py:FUNCTION the very object that the function returned.

    output: which of its outputs, by the name that survey gives it; the one that looks like class scores unless named.
    classes: how many classes there are, if it is known. reading: what else is asked of the reader.
    image_shape: of the images that it will be fed, for a source that does not state it. Raises EngineError
    if the framework is not installed, SourceError if there is no such output.
    """
    source = SourceFile.of(source)
    live, estimator = source.live, source.estimator
    family = family_named(live.framework) if live else family_of(source.path)
    if not family.states_shape and reading.image_shape is None:
        reading = replace(reading, image_shape=image_shape)
    reading = replace(reading, output=output, classes=source.columns_wanted(classes))
    engine = family.live_engine(source.path, reading, live and live.model)
    # The user knows the source by its name, not by the file that it was saved to.
    engine.path = Path(source.name)
    if estimator is None:
        return engine
    from zygal.engines.estimator import EstimatorEngine

    return EstimatorEngine(engine, estimator)
