"""Mobile flatbuffers read back: what they say of themselves, whoever wrote them."""

from __future__ import annotations

from collections import Counter
from pathlib import Path

import numpy as np

from zygal.artifact.facts import Artifact
from zygal.artifact.metadata import Metadata
from zygal.artifact.mobile.write import LAYERS_KEY, METADATA_NAME
from zygal.documents import parse_json
from zygal.errors import ArtifactError
from zygal.files import sha256_of
from zygal.graph import Batch, TensorType
from zygal.mobile.meaning import read_meaning
from zygal.mobile.model import MobileModel
from zygal.mobile.read import read_model
from zygal.scores import operators_before, scores_by_operators
from zygal.sources.choice import Candidate, Choice, choose_output, linear_place

_PLAIN_NAMES = {"LOGISTIC": "sigmoid", "SOFTMAX": "softmax", "LOG_SOFTMAX": "logsoftmax", "FULLY_CONNECTED": "linear", "BATCH_MATMUL": "matmul",
                "RESHAPE": "reshape", "SQUEEZE": "squeeze", "DEQUANTIZE": "cast", "QUANTIZE": "cast", "CAST": "cast", "ADD": "add", "MUL": "mul"}  # fmt: skip
"""What the scores are is told by operators in the words of `zygal.scores`."""


def read(path: str | Path, output: str | None = None) -> Artifact:
    """See `formats.read_artifact`."""
    model = read_model(path)
    metadata = own_metadata(model, str(path))
    inputs, outputs = names_of(model, model.inputs, "inputs"), names_of(model, model.outputs, "outputs")
    made_by = made_by_names(model)
    chosen = choice(str(path), model, outputs, made_by, output, len(metadata.labels) if metadata.labels else None)
    ending = model.tensors[outputs[chosen.name]].name
    floating = [each for each in model.tensors if each.data is not None and each.dtype in ("float32", "float16", "int8", "uint8")]
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
    properties = parse_json(bytes(content).decode("utf-8", "backslashreplace"), f"the metadata inside {where}", ArtifactError)
    if not all(isinstance(each, str) for each in properties.values()):
        raise ArtifactError(f"the metadata inside {where} hold something other than text; convert it again from its source.")
    return properties


def names_of(model: MobileModel, numbers: list[int], side: str) -> dict[str, int]:
    """Inputs or outputs by the names of the only signature, else by those of their tensors."""
    names = {number: model.tensors[number].name for number in numbers}
    if len(model.signatures) == 1:
        names.update({number: name for name, number in getattr(model.signatures[0], side).items() if number in names})
    return {name: number for number, name in names.items()}


def declared(model: MobileModel, number: int) -> tuple[str, tuple[int | str | None, ...]]:
    tensor = model.tensors[number]
    return tensor.dtype, tuple(f"N{axis or ''}" if size is None else size for axis, size in enumerate(tensor.sizes))


def made_by_names(model: MobileModel) -> dict[str, tuple[str, list[str]]]:
    """The operator, in the words of `zygal.scores`, and the inputs of each tensor, by names."""
    tensors = model.tensors
    return {
        tensors[number].name: (_PLAIN_NAMES.get(each.name, each.name), [tensors[place].name for place in each.inputs if place >= 0 and tensors[place].data is None])
        for each in model.operators
        for number in each.outputs
    }


def choice(where: str, model: MobileModel, outputs: dict[str, int], made_by, named: str | None, classes: int | None) -> Choice:
    """The output that is taken for the class scores."""
    places = {model.tensors[number].name: place for place, each in enumerate(model.operators) for number in each.outputs}
    candidates = []
    for name, number in outputs.items():
        tensor = model.tensors[number]
        dtype = "float32" if tensor.quantization is not None else tensor.dtype
        known = dtype in ("float32", "float16", "int32", "int64", "uint8", "int8", "bool") and len(tensor.shape) > 0
        type = TensorType(np.dtype(dtype), (Batch(), *tensor.shape[1:])) if known else None
        candidates.append(Candidate(name, type, linear_place(tensor.name, made_by, places)))
    return choose_output(where, candidates, named, classes)
