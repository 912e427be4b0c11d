"""The kinds of files, and the beginning of a file by which its kind is recognised."""

from __future__ import annotations

import os
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO

from zygal.errors import FileError
from zygal.files.opening import open_file, reason

PROGRAM = "a captured PyTorch program (.pt2)"
TORCH_SCRIPT = "a scripted or traced PyTorch archive"
TORCH_PICKLE = "a PyTorch pickle"
SKLEARN_PICKLE = "a scikit-learn pickle"
PYTHON_PICKLE = "a Python pickle"
SAFETENSORS = "a safetensors file of weights"
LAYERS_JSON = "a description of layers in JSON"
WEB_LAYERS = "a web model of layers (model.json)"
WEB_GRAPH = "a web model of a graph (model.json)"
SAVED_MODEL = "a TensorFlow saved-model folder"
CHECKPOINT = "a table of TensorFlow variables (.index)"
MODEL_FOLDER = "a model folder (config.json) of a public collection"
FOLDER = "a training folder (its sub-folders are the classes)"
LIVE = "a function that builds a model (FILE.py:FUNCTION)"
KERAS_ARCHIVE = "a .keras archive"
HDF5 = "an HDF5 file"
TRAINED = (
    "a trained model (.pt2, .keras, .h5, a saved-model folder, a frozen .pb, a web model.json, a .tflite, an .onnx or "
    "a -symbol.json)"
)
FROZEN_GRAPH = "a frozen TensorFlow graph"
SYMBOL = "an MXNet symbol file (-symbol.json)"
PARAMETERS = "an MXNet parameter file (.params)"
ARTIFACT = "an ONNX artifact"
MOBILE = "a mobile flatbuffer (.tflite)"
ANY_ARTIFACT = "an artifact (.onnx or .tflite)"
ARTIFACTS = (ARTIFACT, MOBILE)
"""What can be run as an artifact; a mobile flatbuffer can be a source as well."""
WITNESS = "a witness"
INLET = "an inlet"
LABELS = "a labels file"
IMAGE = "an image"
ZIP = "a zip archive"
EMPTY = "an empty file"
TEXT = "a text file"
UNKNOWN = "a file of unknown kind"

LARGEST_TEXT_SEARCHED = 1 << 20


@dataclass(frozen=True)
class Peek:
    """The beginning of a file, as much as it takes to recognise it.

    head: its first bytes; empty for a folder. members: the names inside a zip archive, of a damaged one the first; None
    for other files. text: more of a file that begins like JSON. folder: the names in a folder.
    """

    path: Path
    head: bytes = b""
    members: tuple[str, ...] | None = None
    damaged: bool = False
    text: bytes = b""
    folder: frozenset[str] = frozenset()

    @classmethod
    def at(cls, path: str | Path) -> Peek:
        """Raises FileError."""
        import zipfile

        if os.path.isdir(path):
            try:
                return cls(Path(path), folder=frozenset(os.listdir(path)))
            except OSError as fault:
                raise FileError(f"{path} cannot be read: {reason(fault)}.") from fault
        with open_file(path) as file:
            head = file.read(4096)
            if head[:4] == b"PK\x03\x04" or head and zipfile.is_zipfile(file):
                members, damaged = _members(file)
                return cls(Path(path), head, members, damaged)
            text = head + file.read(LARGEST_TEXT_SEARCHED) if head.lstrip()[:1] == b"{" else b""
        return cls(Path(path), head, text=text)


def _members(file: BinaryIO) -> tuple[tuple[str, ...], bool]:
    """The names in a zip archive, and whether it is damaged: then the first name alone."""
    import zipfile

    try:
        with zipfile.ZipFile(file) as archive:
            return tuple(archive.namelist()), False
    except Exception:  # The library raises whatever comes of the damage.
        file.seek(0)
        return (file.read(300)[30:].split(b"\0")[0].decode("latin-1"),), True
