"""Recognises what a file is by its contents, never by its name."""

from __future__ import annotations

import os
import zipfile
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO

from zygal.errors import FileError
from zygal.files import open_file, read_text, reason

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
FOLDER = "a training folder (its sub-folders are the classes)"
LIVE = "a function that builds a model (FILE.py:FUNCTION)"
KERAS_ARCHIVE = "a .keras archive"
HDF5 = "an HDF5 file"
TRAINED = "a trained model (.pt2, .keras, .h5, a saved-model folder, a frozen .pb or a web model.json)"
FROZEN_GRAPH = "a frozen TensorFlow graph"
ARTIFACT = "an ONNX artifact"
WITNESS = "a witness"
INLET = "an inlet"
LABELS = "a labels file"
IMAGE = "an image"
ZIP = "a zip archive"
EMPTY = "an empty file"
TEXT = "a text file"
UNKNOWN = "a file of unknown kind"

_MAGIC = (
    (b"\x89PNG\r\n\x1a\n", IMAGE),
    (b"\xff\xd8\xff", IMAGE),
    (b"GIF8", IMAGE),
    (b"RIFF", IMAGE),
    (b"BM", IMAGE),
    (b"II*\0", IMAGE),
    (b"MM\0*", IMAGE),
)


LARGEST_TEXT_SEARCHED = 1 << 20


@dataclass(frozen=True)
class Peek:
    """The beginning of a file, as much as it takes to recognise it.

    head: its first bytes; empty for a folder. members: the names inside a zip archive, of a damaged one the first; None for
    other files. text: more of a file that begins like JSON. folder: the names in a folder.
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


def kind_of(path: str | Path) -> str:
    """One of this module's constants, written so that it reads well after "is". Raises FileError."""
    from zygal.sources.families import FAMILIES

    peek = Peek.at(path)
    for family in FAMILIES:
        kind = family.recognise(peek)
        if kind is not None:
            return kind
    head, path = peek.head, Path(path)
    if not head:
        if peek.path.is_dir():
            raise FileError(f"{path} is a folder; {_what_of_folder(peek.folder)}.")
        return EMPTY
    if peek.members is not None:
        return _kind_of_zip(peek.members)
    if head[0] == 0x80 and head[1:2] in (b"\x02", b"\x03", b"\x04", b"\x05"):
        return _kind_of_pickle(head)
    if head[8:9] == b"{" and int.from_bytes(head[:8], "little") < 100_000_000:
        return SAFETENSORS
    for magic, kind in _MAGIC:
        if head.startswith(magic):
            return kind
    if _looks_like_onnx(head):
        return ARTIFACT
    return CHECKPOINT if _ends_like_a_table(path) else _kind_of_text(path)


def _what_of_folder(names: frozenset[str]) -> str:
    """What to do with a folder that is no source."""
    if "variables" in names:
        return "it holds variables but no saved_model.pb, so the graph is missing: copy the whole folder again"
    if "variables.index" in names:
        return "it holds the variables of a saved model: give the folder above it, which holds saved_model.pb"
    return "a file is needed here"


def require_kind(path: str | Path, wanted: str) -> Path:
    """`path`, if its contents are of the kind `wanted`; else raises FileError with what to do instead."""
    kind = kind_of(path)
    if kind != wanted:
        raise _unwanted(path, kind, wanted)
    return Path(path)


def trained_kind(path: str | Path) -> str:
    """The kind of a source that holds a trained model; raises FileError with what to do instead for anything else."""
    from zygal.sources.families import FAMILIES

    kind = kind_of(path)
    if not any(kind in family.kinds for family in FAMILIES):
        raise _unwanted(path, kind, TRAINED)
    return kind


def _unwanted(path: str | Path, kind: str, wanted: str) -> FileError:
    from zygal.sources.families import FAMILIES

    trained = any(kind in family.kinds for family in FAMILIES)
    advice = _ADVICE.get((wanted, TRAINED if trained else kind)) or _ADVICE.get(kind) or "check the path"
    return FileError(f"{path} is {kind}, but {wanted} is needed here; {advice}.")


def advice(kind: str) -> str:
    """What to do with a file of a kind that is not wanted, as the end of a sentence; empty if there is no advice."""
    text = _ADVICE.get(kind)
    return f"; {text}" if text else ""


def _kind_of_pickle(head: bytes) -> str:
    """Whose objects a pickle names; it is not loaded. The bytes after protocol 2 may be the number that PyTorch begins with."""
    if b"sklearn" in head:
        return SKLEARN_PICKLE
    torch_begins = b"\x80\x02\x8a\nl\xfc\x9cF\xf9 j\xa8P\x19."
    return TORCH_PICKLE if b"torch" in head or head.startswith(torch_begins) else PYTHON_PICKLE


_ADVICE = {
    (TRAINED, ARTIFACT): "it is already converted, so give the trained model that it was made from",
    (ARTIFACT, TRAINED): "convert it first with zygal convert",
    (WITNESS, TRAINED): "record a witness from it with zygal witness",
    (WITNESS, ARTIFACT): "record a witness on the training side with zygal witness",
    CHECKPOINT: "it holds weights alone; give the saved-model folder, whose saved_model.pb holds the graph",
    TORCH_SCRIPT: "capture the model again with torch.export.export and torch.export.save",
    TORCH_PICKLE: "a pickle is never loaded, because it can run code; for a state dictionary give FILE.py:FUNCTION with --weights, for a "
    "whole module capture it with torch.export.export and torch.export.save",
    SKLEARN_PICKLE: "a pickle is never loaded, because it can run code; return the fitted estimator together with its network from a "
    "function, and give FILE.py:FUNCTION",
    PYTHON_PICKLE: "a pickle is never loaded, because it can run code; give a file that the framework itself writes",
    SAFETENSORS: "it holds weights alone; give FILE.py:FUNCTION, which builds the model, with --weights and this file",
    LAYERS_JSON: "it names layers, not classes, and holds no weights; save the whole model in its framework",
    WITNESS: "give a witness with --witness",
    INLET: "give an inlet with --inlet",
    LABELS: "give labels with --labels",
    EMPTY: "copy it again from its source",
}
"""What to do with a file of one kind, or with it where another kind is wanted."""


def _members(file: BinaryIO) -> tuple[tuple[str, ...], bool]:
    """The names in a zip archive, and whether it is damaged: then the first name alone."""
    try:
        with zipfile.ZipFile(file) as archive:
            return tuple(archive.namelist()), False
    except Exception:  # The library raises whatever comes of the damage.
        file.seek(0)
        return (file.read(300)[30:].split(b"\0")[0].decode("latin-1"),), True


def _kind_of_zip(names: tuple[str, ...]) -> str:
    if any(name.startswith(("witness.json", "tensors.npy", "scores.npy")) for name in names[:1]) or "witness.json" in names:
        return WITNESS
    tails = {name.partition("/")[2] for name in names}
    if "data.pkl" in tails:
        return TORCH_SCRIPT if any(tail.startswith("code/") for tail in tails) else TORCH_PICKLE
    return ZIP


def _ends_like_a_table(path: Path) -> bool:
    """Whether a file ends in the magic number of a sorted table."""
    with open_file(path) as file:
        if file.seek(0, os.SEEK_END) < 48:
            return False
        file.seek(-8, os.SEEK_END)
        return file.read(8) == (0xDB4775248B80FB57).to_bytes(8, "little")


_LAYER_KEYS = ("modelTopology", "weightsManifest", "layers-model", "graph-model", "keras_version", "layer_names")


def _looks_like_onnx(head: bytes) -> bool:
    """An ONNX file is a protobuf message that begins with the field ir_version (number 1, a varint)."""
    if len(head) < 3 or head[0] != 0x08 or not 0 < head[1] < 0x20:
        return False
    # What follows is one of the model's fields of text, messages or its version.
    return head[2] in (0x12, 0x1A, 0x22, 0x28, 0x32, 0x3A, 0x42, 0x72)


def _kind_of_text(path: Path) -> str:
    try:
        text = read_text(path, "text")
    except FileError:
        return UNKNOWN
    if "\0" in text:
        return UNKNOWN
    if any(line.replace(" ", "").startswith("zygal_inlet=") for line in text.splitlines()):
        return INLET
    if path.suffix == ".toml":
        return INLET
    if text.lstrip().startswith("{") and any(f'"{key}"' in text[:20_000] for key in _LAYER_KEYS):
        return LAYERS_JSON
    return LABELS if path.suffix.lower() in (".txt", ".json", ".csv", ".tsv") else TEXT
