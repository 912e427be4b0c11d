"""Weights stored as float16: half the file, and what that does to the scores."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from zygal.classifier.metadata import HALF, Metadata, Shrunk
from zygal.engines import run_in_batches
from zygal.engines.artifact import open_engine
from zygal.files.writing import scratch_folder
from zygal.shrink.damage import score_error
from zygal.shrink.given import Given
from zygal.shrink.opened import Opened
from zygal.shrink.trial import answers
from zygal.statistics.intervals import Estimate, share_of


@dataclass(frozen=True)
class Halved:
    """score_error_of_spread, largest_difference_of_spread: against the float artifact, as parts of the spread of its
    scores."""

    top_1_agreement: Estimate
    score_error_of_spread: float
    largest_difference_of_spread: float
    float_bytes: int
    bytes: int


def halve(opened: Opened, path: str | Path, given: Given, threads: int | None) -> Halved:
    """Writes the artifact with float16 weights, and compares. Weights that float16 cannot hold stay as they are."""
    facts = opened.facts
    shrunk = Shrunk(
        facts.path.name,
        facts.sha256,
        HALF,
        "weights as float16, widened on loading",
        len(given.tensors),
        given.where,
        0,
    )
    scores = []
    with scratch_folder() as folder:
        for name, half in (("float", False), ("half", True)):
            file = folder / f"{name}{opened.format.ending}"
            opened.format.write(opened.graph, file, Metadata(), opened.writing(opened.graph, half))
            scores.append(np.concatenate(list(run_in_batches(open_engine(file, threads), given.tensors))))
    opened.write(opened.graph, path, replace(facts.metadata, shrunk=shrunk), half=True)
    usual, ours = scores
    same = (answers(ours, facts.scores) == answers(usual, facts.scores)).all(axis=1)
    spread = max(float(np.ptp(usual)), 1e-30)
    return Halved(
        share_of(int(same.sum()), len(same)),
        score_error(ours, usual, facts.scores),
        float(np.abs(ours - usual).max()) / spread,
        facts.size_bytes,
        Path(path).stat().st_size,
    )
