"""Mobile flatbuffers read back: what they say of themselves, whoever wrote them."""

from __future__ import annotations

from collections import Counter
from pathlib import Path

import numpy as np

from zygal.artifact.facts import Artifact
from zygal.classifier.scores import operators_before, scores_by_operators
from zygal.files.opening import sha256_of, state_of
from zygal.mobile.contents import choice, made_by_names, names_of
from zygal.mobile.model import MobileModel
from zygal.mobile.own import METADATA_NAME, own_layers, own_metadata
from zygal.mobile.read import read_model


def read(path: str | Path, output: str | None = None) -> Artifact:
    """See `formats.read_artifact`."""
    model = read_model(path)
    metadata = own_metadata(model, str(path))
    inputs, outputs = names_of(model, model.inputs, "inputs"), names_of(model, model.outputs, "outputs")
    made_by = made_by_names(model)
    chosen = choice(str(path), model, outputs, made_by, output, len(metadata.labels) if metadata.labels else None)
    ending = model.tensors[outputs[chosen.name]].name
    floating = [
        each
        for each in model.tensors
        if each.data is not None and each.dtype in ("float32", "float16", "int8", "uint8")
    ]
    operators = Counter(each.name for each in model.operators)
    return Artifact(
        path=Path(path),
        sha256=sha256_of(path),
        format="mobile flatbuffer",
        version="schema version 3",
        runtime="the mobile runtime (LiteRT)",
        oldest_runtime=None,
        inputs={name: declared(model, number) for name, number in inputs.items()},
        outputs={name: declared(model, number) for name, number in outputs.items()},
        producer=model.description or "unknown",
        operators=dict(operators.most_common()),
        nodes=len(model.operators),
        layers=len(set(own_layers(model, str(path)).values())) or len(model.operators),
        parameters=sum(int(np.prod(each.shape, dtype=np.int64)) for each in floating if each.data.size > 1),
        scores=metadata.scores or scores_by_operators(operators_before(ending, made_by)),
        chosen=chosen,
        size_bytes=Path(path).stat().st_size,
        metadata=metadata,
        signatures=tuple(each.key for each in model.signatures),
    )


def declared(model: MobileModel, number: int) -> tuple[str, tuple[int | str | None, ...]]:
    """The dtype of a tensor and its sizes; open ones as N."""
    tensor = model.tensors[number]
    return tensor.dtype, tuple(f"N{axis or ''}" if size is None else size for axis, size in enumerate(tensor.sizes))


def files_beside(path: str | Path) -> list[Path]:  # noqa: ARG001
    """None: a flatbuffer holds its weights."""
    return []


def is_own(path: str | Path) -> bool:
    """Whether Zygal wrote it. Raises FileError or ArtifactError."""
    state = state_of(path)
    if state not in _OWN:
        _OWN[state] = METADATA_NAME in read_model(path).metadata
    return _OWN[state]


_OWN: dict[tuple | None, bool] = {}
"""By the states of files, whether Zygal wrote them."""
