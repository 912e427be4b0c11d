"""What a model folder says of itself: its library and architecture, classes, image size, preprocessing and weights."""

from __future__ import annotations

import os
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from zygal.classifier.labels import Labels, read_labels
from zygal.errors import SourceError, ZygalError, shown
from zygal.files.documents import parse_json
from zygal.files.opening import read_text
from zygal.files.weights import WeightsFacts, read_safetensors
from zygal.inlet.configured import Configured, read_configured
from zygal.inlet.configured.read import CONFIGURATION, PREPROCESSING

TRANSFORMERS, TIMM = "transformers", "timm"
_WEIGHTS = ("model.safetensors", "pytorch_model.bin")
_CLASSIFIES = "ForImageClassification"
_PLACEHOLDERS = "LABEL_"


@dataclass(frozen=True)
class ModelFolder:
    """architecture: of the library, by its name. labels: the class names, None where only placeholders stand. classes:
    how many there are, if it is said. image_shape: [C, H, W], if it is said. weights: the files that hold them.
    inlet_file: of the preprocessing; inlet: what it states, or None and why_no_inlet says why. arguments: what the
    architecture is made with. notes: what to look at."""

    path: Path
    library: str
    architecture: str
    release: str
    labels: Labels | None
    classes: int | None
    image_shape: tuple[int, ...] | None
    weights: tuple[Path, ...]
    inlet_file: Path | None
    inlet: Configured | None
    why_no_inlet: str = ""
    arguments: dict[str, Any] = field(default_factory=dict)
    notes: tuple[str, ...] = ()

    @property
    def files(self) -> tuple[str, ...]:
        """What the model depends on."""
        return (str(self.path / CONFIGURATION), *map(str, self.weights))

    def tensors(self) -> WeightsFacts | None:
        """What is stored, of one safetensors file. Raises FileError or SourceError."""
        single = len(self.weights) == 1 and self.weights[0].suffix == ".safetensors"
        return read_safetensors(self.weights[0]) if single else None


def is_model_folder(path: str | Path) -> bool:
    """Whether a path is a folder whose config.json is that of a model of a collection; beside its weights it may be
    damaged, which is said when it is read."""
    configuration = os.path.join(path, CONFIGURATION)
    if not os.path.isdir(path) or not os.path.isfile(configuration):
        return False
    try:
        return _library(document_of(configuration)) is not None
    except ZygalError:
        return any(os.path.isfile(os.path.join(path, name)) for name in _WEIGHTS)


def folder_at(source: str | Path | None) -> ModelFolder | None:
    """The model folder that a source is, None for other sources. Raises FileError or SourceError."""
    return read_model_folder(source) if source is not None and is_model_folder(source) else None


def read_model_folder(path: str | Path) -> ModelFolder:
    """A model folder. Raises FileError or SourceError for one that says no architecture of a classifier."""
    path = Path(path)
    document = document_of(path / CONFIGURATION)
    library = _library(document)
    if library is None:
        raise SourceError(f"{path / CONFIGURATION} names no architecture of transformers or timm; check the folder.")
    table = document.get("pretrained_cfg") if library == TIMM else None
    table = table if isinstance(table, dict) else {}
    labels, notes = _labels(path / CONFIGURATION, document)
    inlet_file = path / CONFIGURATION if table else path / PREPROCESSING
    inlet, why = None, f"there is no {PREPROCESSING}"
    if inlet_file.is_file():
        try:
            inlet, why = read_configured(inlet_file), ""
        except ZygalError as fault:
            why = str(fault)
    return ModelFolder(
        path,
        library,
        _architecture(path, document, library),
        _text(document.get("transformers_version")),
        labels,
        _classes(document, labels),
        _image_shape(document, table),
        _weights(path),
        inlet_file if inlet_file.is_file() else None,
        inlet,
        why,
        _arguments(path, document),
        notes,
    )


def document_of(path: str | Path) -> dict[str, Any]:
    """A configuration as JSON data. Raises FileError or SourceError."""
    return parse_json(read_text(path, "a configuration"), str(path), SourceError, dict)


def _library(document: dict[str, Any]) -> str | None:
    if isinstance(document.get("architecture"), str):
        return TIMM
    return TRANSFORMERS if isinstance(document.get("model_type"), str) and "architectures" in document else None


def _architecture(path: Path, document: dict[str, Any], library: str) -> str:
    if library == TIMM:
        return document["architecture"]
    named = document["architectures"]
    if not isinstance(named, list) or len(named) != 1 or not isinstance(named[0], str):
        raise SourceError(f"{path / CONFIGURATION}: architectures is {shown(named)}, where one name is expected.")
    if not named[0].endswith(_CLASSIFIES) and not named[0].endswith(f"{_CLASSIFIES}WithTeacher"):
        raise SourceError(
            f"{path} holds {named[0]}, which is no image classifier: its name would end in {_CLASSIFIES}; give the "
            "folder of the fine-tuned classifier."
        )
    return named[0]


def _labels(path: Path, document: dict[str, Any]) -> tuple[Labels | None, tuple[str, ...]]:
    """The class names, and a note where they are placeholders."""
    if not any(document.get(key) for key in ("id2label", "label2id", "label_names")):
        return None, ()
    labels = read_labels(path)
    if all(name.startswith(_PLACEHOLDERS) for name in labels.names):
        return None, (f"the class names in {path} are placeholders ({labels.names[0]}, ...): give --labels",)
    return labels, ()


def _classes(document: dict[str, Any], labels: Labels | None) -> int | None:
    if labels is not None:
        return len(labels.names)
    for key in ("num_classes", "num_labels", "id2label"):
        value = document.get(key)
        if isinstance(value, dict):
            return len(value)
        if type(value) is int and value > 0:
            return value
    return None


def _image_shape(document: dict[str, Any], table: dict[str, Any]) -> tuple[int, ...] | None:
    size = table.get("input_size") if table else document.get("image_size")
    if type(size) is int:
        size = [size, size]
    if not isinstance(size, list) or not all(type(each) is int and 0 < each < 65_536 for each in size):
        return None
    channels = document.get("num_channels", 3)
    shape = tuple(size) if len(size) == 3 else (channels, *size)
    return shape if len(shape) == 3 and type(shape[0]) is int else None


def _weights(path: Path) -> tuple[Path, ...]:
    """The files of weights: one, or the shards of an index beside them."""
    for name in _WEIGHTS:
        if (path / name).is_file():
            return (path / name,)
    return tuple(sorted(path.glob("model-*-of-*.safetensors")))


def _arguments(path: Path, document: dict[str, Any]) -> dict[str, Any]:
    """What timm makes the architecture with: numbers, text and lists of them. Raises SourceError."""
    arguments = document.get("model_args") or {}
    plain = (int, float, str, bool, type(None), list)
    if not isinstance(arguments, dict) or not all(isinstance(each, plain) for each in arguments.values()):
        raise SourceError(f"{path / CONFIGURATION}: model_args is {shown(arguments)}, which is not understood.")
    return arguments


def _text(value: Any) -> str:
    return value if isinstance(value, str) else ""
