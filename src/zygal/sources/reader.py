"""Reads every kind of source: a file to a graph and what is known about it, whichever framework wrote it."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from zygal import kinds
from zygal.sources.source import Source, SourceFacts


@contextmanager
def read_source(
    path: str | Path,
    keep_batch: bool = False,
    output: str | None = None,
    image_shape: tuple[int, ...] | None = None,
    sizes_are_batches: bool = True,
    classes: int | None = None,
) -> Iterator[Source]:
    """The graph of a trained model's file, with one of its outputs: the one that looks like class scores, unless one is named.

    A program that was captured with a fixed batch is freed from it, unless `keep_batch`. `image_shape` is that of
    one image's tensor, for models that leave it open. sizes_are_batches: see `read_captured`. classes: how
    many there are, if it is known. Raises FileError, SourceError or UnknownOperators.
    """
    if kinds.trained_kind(path) != kinds.PROGRAM:
        from zygal.sources.keras.reader import read_model

        with read_model(path, output, image_shape, classes) as source:
            yield source
        return
    from zygal.sources.pytorch.reader import read_captured

    with read_captured(path, keep_batch, output, sizes_are_batches, classes) as source:
        yield source


def source_facts(path: str | Path) -> SourceFacts:
    """What a source says of itself. Raises FileError or SourceError."""
    if kinds.trained_kind(path) != kinds.PROGRAM:
        from zygal.sources.keras.reader import model_facts

        return model_facts(path)
    from zygal.sources.pytorch.reader import captured_facts

    return captured_facts(path)
