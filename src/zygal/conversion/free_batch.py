"""Freeing a source from the fixed batch that it was captured with: readings are tried in turn, and each is proven by
running it."""

from __future__ import annotations

from math import prod
from pathlib import Path

import numpy as np

from zygal.artifact.formats import DEFAULT_OPSET, ONNX, Writing
from zygal.classifier.metadata import Metadata
from zygal.engines.engine import Engine
from zygal.errors import EngineError, SourceError
from zygal.files.writing import scratch_folder
from zygal.graph import Graph, TensorType
from zygal.graph.passes import run_passes
from zygal.sources import Source
from zygal.sources.freeing import Stuck, freed_graphs

LARGEST_BATCH_BYTES = 2**30
"""The largest batch of images that is made up for a proof."""
FREED_WITHIN = 1e-5
"""How closely a graph that was freed from its fixed batch must agree, as a part of the spread of the scores."""


class NotFreed(SourceError):
    """A graph that was freed from its fixed batch gives other scores than the model with its own batch."""


def freed(source: Source, batch: int, opset: int = DEFAULT_OPSET) -> Graph:
    """The source's graph with a dynamic batch, proven at two other sizes. Raises SourceError with what stands in the
    way."""
    writing, fault = Writing(opset), None
    expressed = ONNX.expressed(writing)
    check_runs_here(source, batch)
    pinned = run_passes(source.graph, expressed)
    try:
        for graph in freed_graphs(source.graph, batch):
            try:
                prove_freed(source, pinned, run_passes(graph, expressed), batch, writing)
                return graph
            except NotFreed as unproven:
                fault = fault or unproven
    except Stuck as stuck:
        raise SourceError(
            f"{source.path} was captured with a fixed batch of {batch} and cannot be given a dynamic one: {stuck} "
            "Capture it with a dynamic batch (axis 0), or keep the fixed one with --keep-batch."
        ) from stuck
    raise fault


def check_runs_here(source: Source, batch: int) -> None:
    """Raises SourceError if a fixed batch is larger than a proof can hold, as only a damaged file says it."""
    type = source.graph.types[source.graph.inputs[0]]
    size = batch * prod(each for each in type.shape[1:] if isinstance(each, int)) * type.dtype.itemsize
    if size > LARGEST_BATCH_BYTES:
        raise SourceError(
            f"{source.path} was captured with a fixed batch of {batch}, whose images take {size / 1e9:.3g} GB, too "
            "much to prove that another batch gives the same scores; keep it with --keep-batch, or capture it anew."
        )


def prove_freed(source: Source, pinned: Graph, graph: Graph, batch: int, writing: Writing) -> None:
    """Runs the freed graph at two other batch sizes against the model with its own batch. Raises NotFreed.

    The images are random; every image's scores must be those that it has in a batch of the captured size.
    """
    from zygal.engines import run_in_batches
    from zygal.engines.artifact import open_engine

    # Small sizes, whatever the captured one is: that another size works at all is what must be shown.
    counts = [count for count in (2, 3, 5) if count != batch][:2]
    with scratch_folder() as folder:
        engines = []
        for name, each in (("pinned", pinned), ("freed", graph)):
            ONNX.write(each, folder / name, Metadata(), writing)
            engines.append(open_engine(folder / name))
        images = random_images(graph.types[graph.inputs[0]], max(counts))
        wanted = np.concatenate(list(run_in_batches(engines[0], images)))
        for count in counts:
            try:
                found = engines[1].run(images[:count])
            except EngineError as fault:
                raise _not_freed(source, batch, f"it cannot be run on {count} images ({fault})") from fault
            if not _agrees(found, wanted[:count], np.ptp(wanted)):
                raise _not_freed(source, batch, f"it returns other scores for {count} images")
        _prove_by_code(source, batch, engines[1], images[: counts[0]], writing, folder)


def _agrees(found: np.ndarray, right: np.ndarray, spread: float) -> bool:
    return found.shape == right.shape and bool(np.abs(found - right).max() <= FREED_WITHIN * max(spread, 1e-30))


def _prove_by_code(
    source: Source, batch: int, engine: Engine, images: np.ndarray, writing: Writing, folder: Path
) -> None:
    """Where the source's code is followed for another number of images, the freed graph's scores must be those of what
    it says: one that computes with the number itself gives an image other scores in another batch. Raises NotFreed."""
    from zygal.engines.artifact import open_engine

    graph = source.graph_for(len(images))
    if graph is None or graph.types[graph.outputs[0]].shape[:1] != (len(images),):
        return
    ONNX.write(run_passes(graph, ONNX.expressed(writing)), folder / "by code", Metadata(), writing)
    right = open_engine(folder / "by code").run(images)
    if not _agrees(engine.run(images), right, np.ptp(right)):
        raise _not_freed(source, batch, f"it returns other scores for {len(images)} images than its code")


def random_images(type: TensorType, count: int):
    """Tensors that a model's input may hold."""
    rng, shape = np.random.default_rng(count), (count, *type.shape[1:])
    if type.dtype.kind == "f":
        return rng.standard_normal(shape, np.float32).astype(type.dtype)
    return rng.integers(0, 2 if type.dtype == bool else 128, shape).astype(type.dtype)


def _not_freed(source: Source, batch: int, why: str) -> NotFreed:
    return NotFreed(
        f"{source.path} was captured with a fixed batch of {batch}; with a dynamic batch {why}. Capture it with a "
        "dynamic batch (axis 0), or keep the fixed one with --keep-batch."
    )
