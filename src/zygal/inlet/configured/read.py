"""Reads a configuration file as an inlet: which library wrote it, and in which of its ways it computes."""

from __future__ import annotations

from pathlib import Path

from zygal.errors import InletError, ZygalError
from zygal.files.documents import parse_json
from zygal.files.opening import read_text
from zygal.inlet.configured import collection, processors
from zygal.inlet.configured.settings import Configured

PREPROCESSING = "preprocessor_config.json"
CONFIGURATION = "config.json"


def read_configured(path: str | Path, way: str | None = None) -> Configured:
    """The inlet that a configuration file states. way: of WAYS; unless given, the one that the release computes in
    which wrote the file. Raises FileError or InletError naming what is not understood."""
    path = Path(path)
    document = parse_json(read_text(path, "a configuration"), str(path), InletError, dict)
    for key in ("preprocessor_config", "image_processor"):
        if isinstance(document.get(key), dict):
            document = document[key]
    if isinstance(document.get("pretrained_cfg"), dict):
        return collection.read(document["pretrained_cfg"], str(path), way)
    if any(key in document for key in processors.NAMED_BY):
        return processors.read(document, str(path), way or processors.way_of(document, _release_beside(path)))
    if document.get("architectures") or document.get("model_type"):
        raise InletError(f"{path} describes a model, not its preprocessing; give the {PREPROCESSING} beside it.")
    raise InletError(
        f"{path} names no preprocessing; a {PREPROCESSING} names its class with image_processor_type, and a "
        f"{CONFIGURATION} has pretrained_cfg."
    )


def _release_beside(path: Path) -> str:
    """The library's release that wrote the model's configuration in the same folder; empty if it is not said."""
    try:
        document = parse_json(read_text(path.parent / CONFIGURATION, "a configuration"), "it", InletError, dict)
    except ZygalError:
        return ""
    release = document.get("transformers_version")
    return release if isinstance(release, str) else ""
