"""An inlet, wherever it stands."""

from __future__ import annotations

from pathlib import Path

from zygal.artifact.formats import read_artifact
from zygal.errors import InletError
from zygal.files.kinds import ARTIFACTS
from zygal.inlet import Inlet, read_inlet


def inlet_at(path: str | Path) -> Inlet:
    """The inlet of a TOML file, or the one inside an artifact. Raises FileError, ArtifactError or InletError."""
    from zygal.files.recognition import kind_of

    if kind_of(path) not in ARTIFACTS:
        return read_inlet(path)
    inlet = read_artifact(path).metadata.inlet
    if inlet is None:
        raise InletError(f"{path} holds no inlet; name a TOML file.")
    return inlet
