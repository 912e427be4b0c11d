"""What the open metadata schema says of a mobile classifier: how its input is normalised, and which associated file
holds the labels."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from zygal.mobile.encoding import Encoder
from zygal.mobile.model import MobileModel
from zygal.mobile.schema import AXIS_LABELS, GRAYSCALE, METADATA_BUFFER, METADATA_IDENTIFIER, RGB, VALUE_LABELS
from zygal.mobile.tables import Decoder

LABELS_FILE = "labels.txt"
OLDEST_PARSER = "1.0.0"
"""The version of the metadata schema that has all that is written here."""


@dataclass(frozen=True)
class Meaning:
    """mean, std: of pixels of 0 to 255, one number or one a channel: the model takes (pixel - mean) / std. labels: by
    the output's place; grey: whether the images are said to be grey; None where nothing is said."""

    mean: tuple[float, ...] | None = None
    std: tuple[float, ...] | None = None
    labels: dict[int, tuple[str, ...]] | None = None
    grey: bool | None = None


def read_meaning(model: MobileModel, where: str) -> Meaning:
    """Raises FileError if the metadata are damaged."""
    content = model.metadata.get(METADATA_BUFFER)
    if content is None:
        return Meaning()
    decoder = Decoder(memoryview(content.tobytes()), f"the metadata inside {where}")
    graphs = decoder.root("ModelMetadata").subgraphs or ()
    if not graphs:
        return Meaning()
    mean = std = grey = None
    for tensor in (graphs[0].inputs or ())[:1]:
        for unit in tensor.process_units or ():
            if unit.options is not None and unit.options.mean is not None and unit.options.std is not None:
                mean, std = (tuple(map(float, each)) for each in (unit.options.mean, unit.options.std))
        properties = tensor.content and tensor.content.properties
        if properties is not None and properties.colour_space in (RGB, GRAYSCALE):
            grey = properties.colour_space == GRAYSCALE
    labels = {}
    for place, tensor in enumerate(graphs[0].outputs or ()):
        named = next(
            (each.name for each in tensor.associated_files or () if each.type in (AXIS_LABELS, VALUE_LABELS)), None
        )
        lines = _lines(model.files.get(named)) if named else None
        if lines:
            labels[place] = lines
    return Meaning(mean, std, labels, grey)


def _lines(content: bytes | None) -> tuple[str, ...] | None:
    if content is None:
        return None
    try:
        return tuple(line.strip() for line in content.decode("utf-8").splitlines() if line.strip())
    except UnicodeDecodeError:
        return None


def meaning_bytes(
    image: str,
    scores: str,
    labels: Sequence[str] | None,
    normalisation: tuple[Sequence[float], Sequence[float]] | None,
    grey: bool | None,
) -> bytes:
    """The metadata of a classifier. image, scores: the names of its tensors. normalisation: mean and std of pixels of 0
    to 255."""
    given: dict[str, Any] = {"name": image}
    if normalisation is not None:
        mean, std = normalisation
        given["process_units"] = [{"options_type": 1, "options": {"mean": mean, "std": std}}]
    if grey is not None:
        given["content"] = {"properties_type": 2, "properties": {"colour_space": GRAYSCALE if grey else RGB}}
    made: dict[str, Any] = {"name": scores}
    if labels:
        made["associated_files"] = [{"name": LABELS_FILE, "type": AXIS_LABELS}]
    fields = {
        "name": "classifier",
        "subgraphs": [{"inputs": [given], "outputs": [made]}],
        "min_parser_version": OLDEST_PARSER,
    }
    return Encoder().finished(fields, "ModelMetadata", METADATA_IDENTIFIER)
