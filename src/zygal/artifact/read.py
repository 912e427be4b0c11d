"""ONNX files read back: what they say of themselves, and the graph inside."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import onnx
from onnx import helper, numpy_helper

from zygal import kinds
from zygal.artifact.metadata import Metadata
from zygal.errors import ArtifactError
from zygal.files import sha256_of
from zygal.graph import Batch, Graph, GraphBuilder, TensorType
from zygal.graph.ops import known_operators, operator_named
from zygal.scores import scores_by_operator

RUNTIME_FOR_OPSET = {13: "1.7", 14: "1.8", 15: "1.10", 16: "1.11", 17: "1.12", 18: "1.14", 19: "1.15", 20: "1.17",
                     21: "1.18", 22: "1.21", 23: "1.22"}  # fmt: skip
"""The oldest release of ONNX Runtime that runs each opset, from its compatibility table."""


@dataclass(frozen=True)
class Artifact:
    """What an ONNX file says. Shapes hold numbers, names of dynamic sizes, or None where nothing is said."""

    path: Path
    sha256: str
    inputs: dict[str, tuple[str, tuple[int | str | None, ...]]]
    outputs: dict[str, tuple[str, tuple[int | str | None, ...]]]
    opset: int
    ir_version: int
    producer: str
    operators: dict[str, int]
    nodes: int
    layers: int
    parameters: int
    scores: str
    size_bytes: int
    metadata: Metadata

    @property
    def oldest_runtime(self) -> str | None:
        return RUNTIME_FOR_OPSET.get(max(self.opset, 13))


def load_model(path: str | Path) -> onnx.ModelProto:
    """The message inside an ONNX file. Raises FileError or ArtifactError."""
    path = kinds.require_kind(path, kinds.ARTIFACT)
    try:
        model = onnx.load_model(path, load_external_data=False)
    except Exception as fault:  # The protobuf library has a DecodeError of its own for each back end.
        raise ArtifactError(f"{path} is truncated or damaged ({fault}); convert it again from its source.") from fault
    if not model.graph.node or not model.graph.output or not model.opset_import:
        raise ArtifactError(f"{path} is truncated or damaged: it holds no model; convert it again from its source.")
    return model


def read_artifact(path: str | Path) -> Artifact:
    """What an ONNX file says of itself. Raises FileError, ArtifactError or InletError."""
    model = load_model(path)
    try:
        return _facts(Path(path), model)
    except (TypeError, AttributeError, ValueError) as fault:
        # The protobuf library hands damaged text out as bytes.
        raise ArtifactError(f"{path} is damaged ({fault}); convert it again from its source.") from fault


def _facts(path: Path, model: onnx.ModelProto) -> Artifact:
    held = {tensor.name for tensor in model.graph.initializer}
    opset = next((each.version for each in model.opset_import if each.domain in ("", "ai.onnx")), 0)
    floating = [t for t in model.graph.initializer if t.data_type in (1, 10, 11, 16)]
    properties = {each.key: each.value for each in model.metadata_props}
    return Artifact(
        path=path,
        sha256=sha256_of(path),
        inputs={info.name: _declared(info) for info in model.graph.input if info.name not in held},
        outputs={info.name: _declared(info) for info in model.graph.output},
        opset=opset,
        ir_version=model.ir_version,
        producer=f"{model.producer_name} {model.producer_version}".strip() or "unknown",
        operators=dict(Counter(node.op_type for node in model.graph.node).most_common()),
        nodes=len(model.graph.node),
        layers=len({node.name.rpartition("/")[0] or node.name for node in model.graph.node}),
        parameters=sum(int(np.prod(tensor.dims, dtype=np.int64)) for tensor in floating),
        scores=_scores_kind(model.graph),
        size_bytes=path.stat().st_size,
        metadata=Metadata.from_properties(properties, str(path)),
    )


def artifact_graph(path: str | Path) -> Graph:
    """The graph of an artifact, for the reference engine. Raises ArtifactError on operators that Zygal lacks."""
    return graph_of_model(load_model(path), str(path))


def graph_of_model(model: onnx.ModelProto, where: str) -> Graph:
    """The graph that a message states. The first axis of an input is the batch if it has a name instead of a number."""
    unknown = sorted({node.op_type for node in model.graph.node} - set(known_operators()) - {"Constant"})
    if unknown:
        raise ArtifactError(f"{where} uses operators that the reference engine lacks: {', '.join(unknown)}.")
    opset = model.opset_import[0].version
    constants = {tensor.name: numpy_helper.to_array(tensor) for tensor in model.graph.initializer}
    for node in model.graph.node:
        if node.op_type == "Constant":
            constants[node.output[0]] = numpy_helper.to_array(node.attribute[0].t)
    builder, held = GraphBuilder(), set()
    for info in model.graph.input:
        if info.name not in constants:
            dtype, shape = _declared(info)
            sizes = tuple(Batch() if axis == 0 and not isinstance(s, int) else s for axis, s in enumerate(shape))
            builder.input(info.name, TensorType(np.dtype(dtype), sizes))
    for node in model.graph.node:
        if node.op_type == "Constant":
            continue
        inputs, attributes = _own_form(node, opset, constants)
        for name in inputs:
            if name in constants and name not in held:
                builder.constant(name, constants[name])
                held.add(name)
        # The standard lets results out that nobody reads.
        spare = (f"{node.name or node.op_type}.result{place}" for place in range(9))
        outputs = [name or next(spare) for name in node.output]
        outputs += [next(spare) for _ in range(operator_named(node.op_type).results - len(outputs))]
        builder.add(node.op_type, inputs, outputs, node.name.rpartition("/")[0], **attributes)
    return builder.finish(info.name for info in model.graph.output)


def _own_form(node: onnx.NodeProto, opset: int, constants: Mapping[str, np.ndarray]) -> tuple[list[str], dict]:
    """The inputs and attributes of a node, static parameters moved from the former to the latter."""
    given = {each.name: helper.get_attribute_value(each) for each in node.attribute}
    attributes = {name: value.decode() if isinstance(value, bytes) else value for name, value in given.items()}
    inputs = list(node.input)
    for parameter in operator_named(node.op_type).parameters:
        if parameter.dtype == "type":
            attributes[parameter.name] = helper.tensor_dtype_to_np_dtype(attributes[parameter.name]).name
        slot = parameter.slot
        if slot is None or opset < parameter.slot_since or slot >= len(inputs):
            continue
        if inputs[slot]:
            value = constants[inputs[slot]]
            attributes[parameter.name] = value.item() if parameter.scalar else value.tolist()
        inputs[slot] = ""
    while inputs and not inputs[-1]:
        inputs.pop()
    return inputs, attributes


_REARRANGING = ("Cast", "Flatten", "Identity", "Reshape", "Squeeze", "Transpose", "Unsqueeze")


def _declared(info: onnx.ValueInfoProto) -> tuple[str, tuple[int | str | None, ...]]:
    tensor = info.type.tensor_type
    sizes = []
    for size in tensor.shape.dim:
        known = size.HasField("dim_value")
        sizes.append(size.dim_value if known else size.dim_param or None)
    try:
        dtype = helper.tensor_dtype_to_np_dtype(tensor.elem_type).name
    except KeyError:
        dtype = "unknown"
    return dtype, tuple(sizes)


def _scores_kind(graph: onnx.GraphProto) -> str:
    """What the first output is, by the operator that makes it; those that only rearrange or cast are looked through."""
    made_by = {name: node for node in graph.node for name in node.output}
    node = made_by.get(graph.output[0].name)
    while node is not None and node.op_type in _REARRANGING:
        node = made_by.get(node.input[0])
    return scores_by_operator(node.op_type if node else "")
