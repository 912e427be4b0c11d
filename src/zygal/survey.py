"""What a file is, and what is in it: a source, an artifact, a witness or an inlet."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from zygal import kinds
from zygal.errors import FileError

READABLE = (kinds.PROGRAM, kinds.ARTIFACT, kinds.WITNESS, kinds.INLET, kinds.LABELS)


@dataclass(frozen=True)
class Survey:
    """`kind` is a constant of `zygal.kinds`; `facts` is what the reader of that kind gives."""

    path: Path
    kind: str
    facts: Any


def survey(path: str | Path) -> Survey:
    """Recognises a file by its contents and reads what it says of itself. Raises ZygalError."""
    kind = kinds.kind_of(path)
    if kind == kinds.PROGRAM:
        from zygal.sources import source_facts

        return Survey(Path(path), kind, source_facts(path))
    if kind == kinds.ARTIFACT:
        from zygal.artifact import read_artifact

        return Survey(Path(path), kind, read_artifact(path))
    if kind == kinds.WITNESS:
        from zygal.evidence.witness import read_witness

        return Survey(Path(path), kind, read_witness(path))
    if kind == kinds.INLET:
        from zygal.inlet import read_inlet

        return Survey(Path(path), kind, read_inlet(path))
    if kind == kinds.LABELS:
        from zygal.labels import read_labels

        return Survey(Path(path), kind, read_labels(path))
    raise FileError(f"{path} is {kind}; survey reads captured programs, artifacts, witnesses, inlets and labels.")


def image_layout(shape: tuple[Any, ...]) -> str | None:
    """NCHW or NHWC, by which axis of [batch, ., ., .] has the size of a colour axis; None if neither or both."""
    if len(shape) != 4:
        return None
    first, last = shape[1] in (1, 3, 4), shape[3] in (1, 3, 4)
    return None if first == last else "NCHW" if first else "NHWC"


def recorded_scores_kind(scores: np.ndarray) -> str:
    """What recorded scores [N, classes] look like, by their values."""
    if scores.min() >= 0 and scores.max() <= 1 + 1e-5:
        sums = scores.sum(axis=1)
        return "probabilities" if np.allclose(sums, 1, atol=1e-3) else "independent probabilities"
    if scores.max() <= 1e-5 and np.allclose(np.exp(scores.astype(np.float64)).sum(axis=1), 1, atol=1e-3):
        return "log-probabilities"
    return "logits"
