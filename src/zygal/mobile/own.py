"""What Zygal writes into flatbuffers of its own, and reads back: metadata, and the layers of the training code."""

from __future__ import annotations

import json
from collections.abc import Mapping

from zygal.classifier.metadata import Metadata
from zygal.errors import ArtifactError
from zygal.files.documents import parse_json
from zygal.mobile.meaning import read_meaning
from zygal.mobile.model import MobileModel

METADATA_NAME = "zygal"
"""The metadata buffer that is ours: the properties of `Metadata` as JSON."""
LAYERS_KEY = "zygal.layers"
"""The layer of the training code that each tensor comes from, as JSON."""


def own_bytes(metadata: Metadata, layers: Mapping[str, str]) -> bytes:
    """The content of the buffer that is ours. layers: by tensors' names."""
    properties = metadata.to_properties() | {LAYERS_KEY: json.dumps(layers, ensure_ascii=False)}
    return json.dumps(properties, ensure_ascii=False, sort_keys=True).encode()


def own_metadata(model: MobileModel, where: str) -> Metadata:
    """What we wrote; of another maker's file the labels of the open metadata schema."""
    properties = _properties(model, where)
    if not properties:
        labels = (read_meaning(model, where).labels or {}).get(0)
        return Metadata(labels=labels, labels_order=f"the associated file of {where}" if labels else None)
    return Metadata.from_properties(properties, where)


def own_layers(model: MobileModel, where: str) -> dict[str, str]:
    """The layers of the training code by tensors' names, in a file that we wrote."""
    stated = _properties(model, where).get(LAYERS_KEY)
    layers = parse_json(stated, f"the layers inside {where}", ArtifactError) if stated else {}
    return {name: layer for name, layer in layers.items() if isinstance(layer, str)}


def _properties(model: MobileModel, where: str) -> dict[str, str]:
    content = model.metadata.get(METADATA_NAME)
    if content is None:
        return {}
    properties = parse_json(
        bytes(content).decode("utf-8", "backslashreplace"), f"the metadata inside {where}", ArtifactError
    )
    if not all(isinstance(each, str) for each in properties.values()):
        raise ArtifactError(
            f"the metadata inside {where} hold something other than text; convert it again from its source."
        )
    return properties
