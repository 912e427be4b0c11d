"""What a file is, and what is in it: a source, an artifact, a witness or an inlet."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

from zygal import kinds
from zygal.errors import FileError


@dataclass(frozen=True)
class Survey:
    """`kind` is a constant of `zygal.kinds`; `facts` is what the reader of that kind gives."""

    path: Path
    kind: str
    facts: Any


def survey(path: str | Path) -> Survey:
    """Recognises a file by its contents and reads what it says of itself. Raises ZygalError."""
    kind = kinds.kind_of(path)
    if kind in (kinds.PROGRAM, kinds.KERAS_ARCHIVE, kinds.HDF5):
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
    raise FileError(f"{path} is {kind}; survey reads trained models, artifacts, witnesses, inlets and labels.")
