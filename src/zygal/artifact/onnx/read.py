"""ONNX files read back: what they say of themselves."""

from __future__ import annotations

import os
from collections import Counter
from pathlib import Path

import numpy as np
import onnx
from onnx import helper

from zygal.artifact.facts import Artifact
from zygal.artifact.onnx.validate import STANDARD, external_bytes, tensors_of, validate
from zygal.classifier.choice import Candidate, Choice, choose_output, linear_place
from zygal.classifier.metadata import Metadata
from zygal.classifier.scores import OF_UNKNOWN_MEANING, operators_before, scores_by_operators
from zygal.errors import ArtifactError
from zygal.files import kinds
from zygal.files.opening import sha256_of_all, state_of
from zygal.files.recognition import require_kind
from zygal.graph import Batch, TensorType

LARGEST_BYTES = 2**31
RUNTIME_FOR_OPSET = {
    13: "1.7",
    14: "1.8",
    15: "1.10",
    16: "1.11",
    17: "1.12",
    18: "1.14",
    19: "1.15",
    20: "1.17",
    21: "1.18",
    22: "1.21",
    23: "1.23",
}
"""The oldest release of ONNX Runtime that runs each opset, from its compatibility table."""


def load_model(path: str | Path) -> onnx.ModelProto:
    """The message inside an ONNX file. Raises FileError or ArtifactError."""
    state, path = state_of(path), require_kind(path, kinds.ARTIFACT)
    if os.path.getsize(path) > LARGEST_BYTES:
        raise ArtifactError(f"{path} is larger than 2 GB, which no ONNX file can be; it is something else or damaged.")
    try:
        model = onnx.load_model(path, load_external_data=False)
    except Exception as fault:  # The protobuf library has a DecodeError of its own for each back end.
        raise ArtifactError(f"{path} is truncated or damaged ({fault}); convert it again from its source.") from fault
    validate(model, path)
    _VALIDATED.add(state)
    _OWN[state] = model.producer_name == "zygal"
    return model


def files_beside(path: str | Path) -> list[Path]:
    """The files with weights that an artifact needs in its folder. Raises FileError or ArtifactError."""
    return _beside(load_model(path), Path(path))


def _beside(model: onnx.ModelProto, path: Path) -> list[Path]:
    tensors = (each for each in tensors_of(model) if each.data_location == onnx.TensorProto.EXTERNAL)
    return sorted({external_bytes(each, path)[0] for each in tensors})


def is_own(path: str | Path) -> bool:
    """Whether Zygal wrote it."""
    state = state_of(path)
    if state not in _OWN:
        load_model(path)
    return _OWN.get(state, False)


def check_artifact(path: str | Path) -> None:
    """Validates a file before it is handed to a runtime, unless it was read before and has not changed since.

    Raises FileError or ArtifactError.
    """
    state = state_of(path)
    if state is None or state not in _VALIDATED:
        load_model(path)


_OWN: dict[tuple | None, bool] = {}
"""By the states of files, whether Zygal wrote them."""
_VALIDATED: set[tuple] = set()
"""The states of files that were found to be sound."""


def read(path: str | Path, output: str | None = None) -> Artifact:
    """What an ONNX file says of itself. output: which of its outputs are the class scores, if it has several; the one
    that looks like them unless named. Raises FileError, ArtifactError or InletError; SourceError if there is no such
    output."""
    return facts_of(Path(path), load_model(path), output)


def facts_of(path: Path, model: onnx.ModelProto, output: str | None = None, classes: int | None = None) -> Artifact:
    """The same of a message that was read. classes: how many there are, if it is known; else by the labels inside."""
    try:
        return _facts(path, model, output, classes)
    except (TypeError, AttributeError, ValueError) as fault:
        # The protobuf library hands damaged text out as bytes.
        raise ArtifactError(f"{path} is damaged ({fault}); convert it again from its source.") from fault


def _facts(path: Path, model: onnx.ModelProto, output: str | None, classes: int | None) -> Artifact:
    weights, beside = {tensor.name for tensor in model.graph.initializer}, _beside(model, path)
    opset = opset_of(model)
    # Weights are floating-point numbers, or are stored in 8 bits; a single number of those is a zero point. Some
    # exporters write them as constants in nodes.
    floating = [
        t for t in tensors_of(model) if t.data_type in (1, 10, 11, 16) or t.data_type in (2, 3) and len(t.dims) > 1
    ]
    properties = {each.key: each.value for each in model.metadata_props}
    metadata = Metadata.from_properties(properties, str(path))
    chosen = choice_of(path, model.graph, output, classes or (len(metadata.labels) if metadata.labels else None))
    return Artifact(
        path=path,
        sha256=sha256_of_all([path, *beside]),
        format="ONNX",
        version=f"opset {opset}, IR version {model.ir_version}",
        runtime="ONNX Runtime",
        oldest_runtime=RUNTIME_FOR_OPSET.get(max(opset, 13)),
        inputs={info.name: declared(info) for info in model.graph.input if info.name not in weights},
        outputs={info.name: declared(info) for info in model.graph.output},
        opset=opset,
        ir_version=model.ir_version,
        producer=f"{model.producer_name} {model.producer_version}".strip() or "unknown",
        operators=dict(Counter(node.op_type for node in model.graph.node).most_common()),
        nodes=len(model.graph.node),
        layers=len({node.name.rpartition("/")[0] or node.name for node in model.graph.node}),
        parameters=sum(int(np.prod(tensor.dims, dtype=np.int64)) for tensor in floating),
        scores=metadata.scores or scores_by_operators(operators_before(chosen.name, _made_by(model.graph))),
        chosen=chosen,
        size_bytes=sum(each.stat().st_size for each in (path, *beside)),
        metadata=metadata,
    )


def opset_of(model: onnx.ModelProto) -> int:
    """The version of the standard's operators that a valid message uses."""
    return next(each.version for each in model.opset_import if each.domain in STANDARD)


def declared(info: onnx.ValueInfoProto) -> tuple[str, tuple[int | str | None, ...]]:
    """The dtype of a declared tensor and its sizes; open ones by their names."""
    tensor = info.type.tensor_type
    sizes = []
    for size in tensor.shape.dim:
        known = size.HasField("dim_value") and size.dim_value >= 0
        sizes.append(size.dim_value if known else size.dim_param or None)
    try:
        dtype = helper.tensor_dtype_to_np_dtype(tensor.elem_type).name
    except KeyError:
        dtype = "unknown"
    return dtype, tuple(sizes)


def _made_by(graph: onnx.GraphProto) -> dict[str, tuple[str, list[str]]]:
    """By value the operator that makes it, and what it reads. Those of other domains mean what they like."""
    return {
        name: (node.op_type if node.domain in STANDARD else OF_UNKNOWN_MEANING, list(node.input))
        for node in graph.node
        for name in node.output
    }


def choice_of(path: Path, graph: onnx.GraphProto, named: str | None, classes: int | None) -> Choice:
    """The output that is taken for the class scores. Raises SourceError if there is none of that name."""
    made_by = _made_by(graph)
    places = {name: place for place, node in enumerate(graph.node) for name in node.output}
    candidates = []
    for info in graph.output:
        dtype, shape = declared(info)
        known = dtype != "unknown" and all(isinstance(size, int) for size in shape[1:])
        type = TensorType(np.dtype(dtype), (Batch(), *shape[1:])) if known and shape else None
        candidates.append(Candidate(info.name, type, linear_place(info.name, made_by, places)))
    return choose_output(str(path), candidates, named, classes)
