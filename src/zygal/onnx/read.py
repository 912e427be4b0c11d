"""ONNX files loaded, each validated once before anything walks it."""

from __future__ import annotations

import os
from pathlib import Path

import onnx

from zygal.errors import ArtifactError
from zygal.files import kinds
from zygal.files.opening import state_of
from zygal.files.recognition import require_kind
from zygal.onnx.validate import external_bytes, tensors_of, validate

LARGEST_BYTES = 2**31


def load_model(path: str | Path) -> onnx.ModelProto:
    """The message inside an ONNX file. Raises FileError or ArtifactError."""
    state, path = state_of(path), require_kind(path, kinds.ARTIFACT)
    if os.path.getsize(path) > LARGEST_BYTES:
        raise ArtifactError(f"{path} is larger than 2 GB, which no ONNX file can be; it is something else or damaged.")
    try:
        model = onnx.load_model(path, load_external_data=False)
    except Exception as fault:  # The protobuf library has a DecodeError of its own for each back end.
        raise ArtifactError(f"{path} is truncated or damaged ({fault}); convert it again from its source.") from fault
    validate(model, path)
    _VALIDATED.add(state)
    _OWN[state] = model.producer_name == "zygal"
    return model


def files_beside(path: str | Path) -> list[Path]:
    """The files with weights that an artifact needs in its folder. Raises FileError or ArtifactError."""
    return beside_of(load_model(path), Path(path))


def beside_of(model: onnx.ModelProto, path: Path) -> list[Path]:
    """The same of a message that was read."""
    tensors = (each for each in tensors_of(model) if each.data_location == onnx.TensorProto.EXTERNAL)
    return sorted({external_bytes(each, path)[0] for each in tensors})


def is_own(path: str | Path) -> bool:
    """Whether Zygal wrote it."""
    state = state_of(path)
    if state not in _OWN:
        load_model(path)
    return _OWN.get(state, False)


def check_artifact(path: str | Path) -> None:
    """Validates a file before it is handed to a runtime, unless it was read before and has not changed since.

    Raises FileError or ArtifactError.
    """
    state = state_of(path)
    if state is None or state not in _VALIDATED:
        load_model(path)


_OWN: dict[tuple | None, bool] = {}
"""By the states of files, whether Zygal wrote them."""
_VALIDATED: set[tuple] = set()
"""The states of files that were found to be sound."""
