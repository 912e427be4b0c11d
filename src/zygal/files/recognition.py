"""Recognises what a file is by its contents, never by its name."""

from __future__ import annotations

import os
from pathlib import Path

from zygal.errors import FileError
from zygal.files import kinds
from zygal.files.families import FAMILIES, Family, family_of_kind
from zygal.files.kinds import Peek
from zygal.files.opening import open_file, read_text

PARAMETERS_MAGIC = (0x112).to_bytes(8, "little") + bytes(8)
_MAGIC = (
    (b"\x89PNG\r\n\x1a\n", kinds.IMAGE),
    (b"\xff\xd8\xff", kinds.IMAGE),
    (b"GIF8", kinds.IMAGE),
    (b"RIFF", kinds.IMAGE),
    (b"BM", kinds.IMAGE),
    (b"II*\0", kinds.IMAGE),
    (b"MM\0*", kinds.IMAGE),
)


def kind_of(path: str | Path) -> str:
    """A constant of `zygal.files.kinds`, written so that it reads well after "is". Raises FileError."""
    peek = Peek.at(path)
    for family in FAMILIES:
        kind = family.recognise(peek)
        if kind is not None:
            return kind
    head, path = peek.head, Path(path)
    if not head:
        if peek.path.is_dir():
            raise FileError(f"{path} is a folder; {_what_of_folder(peek.folder)}.")
        return kinds.EMPTY
    if peek.members is not None:
        return _kind_of_zip(peek.members)
    if head[0] == 0x80 and head[1:2] in (b"\x02", b"\x03", b"\x04", b"\x05"):
        return _kind_of_pickle(head)
    if head.startswith(PARAMETERS_MAGIC):
        return kinds.PARAMETERS
    if head[8:9] == b"{" and int.from_bytes(head[:8], "little") < 100_000_000:
        return kinds.SAFETENSORS
    for magic, kind in _MAGIC:
        if head.startswith(magic):
            return kind
    return kinds.CHECKPOINT if _ends_like_a_table(path) else _kind_of_text(path)


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


def require_artifact(path: str | Path) -> str:
    """The kind of an artifact's file; raises FileError with what to do instead for anything else."""
    kind = kind_of(path)
    if kind not in kinds.ARTIFACTS:
        raise _unwanted(path, kind, kinds.ANY_ARTIFACT)
    return kind


def family_of(path: str | Path) -> Family:
    """The family of a trained model's file or folder. Raises FileError with what to do instead for anything else."""
    kind = kind_of(path)
    family = family_of_kind(kind)
    if family is None:
        raise _unwanted(path, kind, kinds.TRAINED)
    return family


def files_of(path: str | Path) -> tuple[str, ...]:
    """What a path stands for: all files of a trained model, or of anything else the file itself. Raises FileError."""
    kind = kind_of(path)
    family = family_of_kind(kind)
    return family.files(Path(path)) if family is not None else (str(path),)


def _unwanted(path: str | Path, kind: str, wanted: str) -> FileError:
    advice = (
        _ADVICE.get((wanted, kinds.TRAINED if family_of_kind(kind) is not None else kind))
        or _ADVICE.get(kind)
        or "check the path"
    )
    return FileError(f"{path} is {kind}, but {wanted} is needed here; {advice}.")


def advice(kind: str) -> str:
    """What to do with a file of a kind that is not wanted, as the end of a sentence; empty if there is no advice."""
    text = _ADVICE.get(kind)
    return f"; {text}" if text else ""


def _kind_of_pickle(head: bytes) -> str:
    """Whose objects a pickle names; it is not loaded. The bytes after protocol 2 may be the number that PyTorch begins
    with."""
    if b"sklearn" in head:
        return kinds.SKLEARN_PICKLE
    torch_begins = b"\x80\x02\x8a\nl\xfc\x9cF\xf9 j\xa8P\x19."
    return kinds.TORCH_PICKLE if b"torch" in head or head.startswith(torch_begins) else kinds.PYTHON_PICKLE


_ADVICE = {
    (kinds.ANY_ARTIFACT, kinds.TRAINED): "convert it first with zygal convert",
    (kinds.ARTIFACT, kinds.TRAINED): "convert it first with zygal convert",
    (kinds.WITNESS, kinds.TRAINED): "record a witness from it with zygal witness",
    kinds.CHECKPOINT: "it holds weights alone; give the saved-model folder, whose saved_model.pb holds the graph",
    kinds.TORCH_PICKLE: "a pickle is never loaded, because it can run code; for a state dictionary give "
    "FILE.py:FUNCTION with --weights, for a whole module capture it with torch.export.export and torch.export.save",
    kinds.SKLEARN_PICKLE: "a pickle is never loaded, because it can run code; return the fitted estimator together "
    "with its network from a function, and give FILE.py:FUNCTION",
    kinds.PYTHON_PICKLE: "a pickle is never loaded, because it can run code; give a file that the framework writes",
    kinds.SAFETENSORS: "it holds weights alone; give FILE.py:FUNCTION, which builds the model, with --weights and this "
    "file",
    kinds.PARAMETERS: "it holds weights alone; give the NAME-symbol.json that was saved with it",
    kinds.LAYERS_JSON: "it names layers, not classes, and holds no weights; save the whole model in its framework",
    kinds.WITNESS: "give a witness with --witness",
    kinds.INLET: "give an inlet with --inlet",
    kinds.LABELS: "give labels with --labels",
    kinds.EMPTY: "copy it again from its source",
}
"""What to do with a file of one kind, or with it where another kind is wanted."""


def _kind_of_zip(names: tuple[str, ...]) -> str:
    if (
        any(name.startswith(("witness.json", "tensors.npy", "scores.npy")) for name in names[:1])
        or "witness.json" in names
    ):
        return kinds.WITNESS
    tails = {name.partition("/")[2] for name in names}
    if "data.pkl" in tails:
        return kinds.TORCH_PICKLE
    return kinds.ZIP


def _ends_like_a_table(path: Path) -> bool:
    """Whether a file ends in the magic number of a sorted table."""
    with open_file(path) as file:
        if file.seek(0, os.SEEK_END) < 48:
            return False
        file.seek(-8, os.SEEK_END)
        return file.read(8) == (0xDB4775248B80FB57).to_bytes(8, "little")


_PREPROCESSING_KEYS = ("image_processor_type", "feature_extractor_type", "pretrained_cfg")
"""In configurations of public collections, which are read as inlets."""
_LAYER_KEYS = ("modelTopology", "weightsManifest", "layers-model", "graph-model", "keras_version", "layer_names")


def _kind_of_text(path: Path) -> str:
    try:
        text = read_text(path, "text")
    except FileError:
        return kinds.UNKNOWN
    if "\0" in text:
        return kinds.UNKNOWN
    if any(line.replace(" ", "").startswith("zygal_inlet=") for line in text.splitlines()):
        return kinds.INLET
    if path.suffix == ".toml":
        return kinds.INLET
    if text.lstrip().startswith("{") and any(f'"{key}"' in text for key in _PREPROCESSING_KEYS):
        return kinds.INLET
    if text.lstrip().startswith("{") and any(f'"{key}"' in text[:20_000] for key in _LAYER_KEYS):
        return kinds.LAYERS_JSON
    return kinds.LABELS if path.suffix.lower() in (".txt", ".json", ".csv", ".tsv") else kinds.TEXT
