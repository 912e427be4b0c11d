"""The graph of whatever survey reads: a trained model as it would be converted, or an artifact."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from zygal.files import kinds
from zygal.graph import Graph


def graph_at(
    path: str | Path, kind: str, weights: str | None = None, shape: tuple[int, ...] | None = None, **options: Any
) -> Graph:
    """kind: of `zygal.files.kinds`. options: signature and input of a source. Raises ZygalError where it cannot be
    read, or not converted."""
    from zygal.conversion.convert import Choices, read_for_conversion
    from zygal.graph.passes import run_passes
    from zygal.sources.opened import source_file

    if kind == kinds.ARTIFACT:
        from zygal.sources.onnx.translate import artifact_graph

        return artifact_graph(path, shape)
    with (
        source_file(str(path), weights, shape, "FILE") as source,
        read_for_conversion(source, Choices(image_shape=shape, **options)) as read,
    ):
        return run_passes(read.graph)
