"""Reads every kind of source: a file to a graph and what is known about it, whichever framework wrote it."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path

from zygal.files.families import Reading
from zygal.files.recognition import family_of
from zygal.sources.source import Source, SourceFacts


@contextmanager
def read_source(path: str | Path, output: str | None = None, reading: Reading = Reading()) -> Iterator[Source]:
    """The graph of a trained model's file, with one of its outputs: the one that looks like class scores, unless one is
    named.

    reading: what else is asked of the reader. A fixed batch is kept: see `conversion`. Raises FileError, SourceError or
    UnknownOperators.
    """
    if output is not None:
        reading = replace(reading, output=output)
    with family_of(path).read(path, reading) as source:
        yield source


def source_facts(path: str | Path, reading: Reading = Reading()) -> SourceFacts:
    """What a source says of itself. Raises FileError or SourceError."""
    return family_of(path).facts(path, reading)
