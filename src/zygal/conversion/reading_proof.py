"""An ONNX file and what was read of it, run on the same random images: its runtime is always here, so
a wrong reading is found before a witness is recorded."""

from __future__ import annotations

import numpy as np

from zygal.conversion.free_batch import check_runs_here, random_images
from zygal.errors import SourceError, ZygalError
from zygal.files.families import Reading
from zygal.sources import Source

IMAGES = 3
ALIKE_WITHIN, WRONG_FROM = 1e-4, 1e-2
"""As parts of the spread of the scores: up to the first is the rounding of float32; from the second on the reading is
wrong. What lies between is said: a runtime rounds halves of steps of 8 bits in its own way."""


def prove_reading(source: Source, reading: Reading) -> tuple[str, ...]:
    """Notes for the user. Raises SourceError where the file computes something else than what was read of it."""
    from zygal.engines.graph import GraphEngine
    from zygal.engines.onnx import OnnxEngine

    name = source.path.name
    try:
        engine = OnnxEngine(source.path, reading)
        check_runs_here(source, engine.batch_size or IMAGES)
        images = random_images(source.graph.types[source.graph.inputs[0]], engine.batch_size or IMAGES)
        theirs = engine.run(images)
    except ZygalError as fault:
        return (f"the reading was not compared with the runtime on {name} itself, which does not run ({fault})",)
    difference = _difference(GraphEngine(source.graph).run(images), theirs)
    if difference <= ALIKE_WITHIN:
        return ()
    said = (
        f"on {len(images)} random images its scores differ from the runtime's on {name} itself by {difference:.2g} of"
    )
    if difference >= WRONG_FROM:
        raise SourceError(
            f"{source.path} cannot be converted: {said} their spread, so it was not read as it is meant; please report "
            "this file, and keep its graph with --as-it-is."
        )
    return (f"{said} the spread; compare the artifact with a witness of the file, zygal witness {name}",)


def _difference(ours: np.ndarray, theirs: np.ndarray) -> float:
    """The largest difference as a part of the spread; infinite where shapes, or what is no number, differ."""
    if ours.shape != theirs.shape or not np.array_equal(np.isnan(ours), np.isnan(theirs)):
        return float("inf")
    known = theirs[~np.isnan(theirs)].astype(np.float64)
    if not known.size:
        return 0.0
    # Scores that are all nearly alike differ by the last bits of float32, and a runtime's sigmoid by 1e-7 near zero.
    last_bits = float(np.abs(known).max()) * float(np.finfo(np.float32).eps)
    spread = max(float(np.ptp(known)), last_bits / ALIKE_WITHIN, 1e-2)
    return float(np.abs(ours[~np.isnan(theirs)] - known).max()) / spread
