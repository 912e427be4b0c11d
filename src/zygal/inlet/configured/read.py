"""Reads a configuration file as an inlet: which library wrote it, and in which of its ways it computes."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from zygal.errors import InletError, ZygalError
from zygal.files.documents import parse_json
from zygal.files.opening import read_text
from zygal.inlet.configured import collection, processors
from zygal.inlet.specification import Inlet
from zygal.inlet.toml import inlet_of

PREPROCESSING = "preprocessor_config.json"
CONFIGURATION = "config.json"
WAYS = ("pictures", "tensors")
"""On what a library computes: on pictures (of Pillow), or on tensors of 8-bit pixels."""


@dataclass(frozen=True)
class Configured:
    """What a configuration says of an image.

    library: of models. name: of what computes it there. way: of WAYS. other_way: whether the library has the other one
    too, with other values. notes: what to know about it, as sentences.
    """

    inlet: Inlet
    library: str
    name: str
    way: str
    other_way: bool
    notes: tuple[str, ...] = ()

    @property
    def said(self) -> str:
        """What it is, in words."""
        return f"{self.name} of {self.library} as it computes on {self.way}"


def is_configuration(text: str) -> bool:
    """Whether the text of a file is JSON, and so no inlet in TOML."""
    return text.lstrip()[:1] == "{"


def read_configured(path: str | Path, way: str | None = None) -> Configured:
    """The inlet that a configuration file states. way: of WAYS; unless given, the one that the release computes in
    which wrote the file. Raises FileError or InletError naming what is not understood."""
    path = Path(path)
    document = parse_json(read_text(path, "a configuration"), str(path), InletError, dict)
    for key in ("preprocessor_config", "image_processor"):
        if isinstance(document.get(key), dict):
            document = document[key]
    if isinstance(document.get("pretrained_cfg"), dict):
        found = collection.read(document["pretrained_cfg"], str(path), way)
    elif any(key in document for key in processors.NAMED_BY):
        found = processors.read(document, str(path), way or processors.way_of(document, _release_beside(path)))
    elif document.get("architectures") or document.get("model_type"):
        raise InletError(f"{path} describes a model, not its preprocessing; give the {PREPROCESSING} beside it.")
    else:
        raise InletError(
            f"{path} names no preprocessing; a {PREPROCESSING} names its class with image_processor_type, and a "
            f"{CONFIGURATION} has pretrained_cfg."
        )
    inlet = inlet_of(found.document, str(path))
    return Configured(inlet, found.library, found.name, found.way, found.other_way, found.notes)


def notes_on(path: str | Path | None, way: str | None = None) -> tuple[str, ...]:
    """What to know about an inlet that is a configuration file; nothing of one in TOML. Raises what reading raises."""
    if path is None or not is_configuration(read_text(path, "an inlet")):
        return ()
    found = read_configured(path, way)
    said = f"{path} is read as {found.said}"
    if found.other_way:
        other = next(each for each in WAYS if each != found.way)
        said += f", not on {other}, where its values differ slightly; zygal inlet recipes --from {path} --way {other}"
        said += " writes that one"
    return (said + ".", *found.notes)


def _release_beside(path: Path) -> str:
    """The library's release that wrote the model's configuration in the same folder; empty if it is not said."""
    try:
        document = parse_json(read_text(path.parent / CONFIGURATION, "a configuration"), "it", InletError, dict)
    except ZygalError:
        return ""
    release = document.get("transformers_version")
    return release if isinstance(release, str) else ""
