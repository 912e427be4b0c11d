"""The graph inside an ONNX file, for the reference engine."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any

import numpy as np
import onnx
from onnx import TensorProto, helper, numpy_helper

from zygal.artifact.onnx.read import declared, load_model, opset_of
from zygal.artifact.onnx.spelling import LOWEST_OPSET, spelling_of
from zygal.artifact.onnx.validate import STANDARD, external_bytes, validate
from zygal.classifier.metadata import TENSOR_KEY, Metadata
from zygal.errors import ArtifactError, GraphError, some_of
from zygal.graph import Batch, Graph, GraphBuilder, TensorType
from zygal.graph.ops import known_operators, operator_named
from zygal.inlet.front import LAYER
from zygal.inlet.sizes import tensor_shape

_DTYPES = frozenset(("float16", "float32", "float64", "int8", "int16", "int32", "int64", "uint8", "bool"))
_CONSTANT_FORMS = {
    "value": None,
    "value_float": np.float32,
    "value_int": np.int64,
    "value_floats": np.float32,
    "value_ints": np.int64,
}
UNREAD = ("If", "MeasuredExpand", "MeasuredPad", "MeasuredReshape", "MeasuredSlice")
"""Operators that are only written, in the inlet of artifacts that take raw pixels."""
_SPARE = 9


def artifact_graph(path: str | Path) -> Graph:
    """The graph of an artifact; of one that takes raw pixels, that of the model behind its inlet.

    Raises FileError, or ArtifactError on operators, opsets and sizes that the reference engine lacks.
    """
    return _graph_of(load_model(path), Path(path))


def graph_of_model(model: onnx.ModelProto, where: str) -> Graph:
    """The graph that a message states. Raises ArtifactError."""
    validate(model, Path(where))
    return _graph_of(model, Path(where))


def _graph_of(model: onnx.ModelProto, path: Path) -> Graph:
    nodes = [node for node in model.graph.node if not _of_inlet(node)]
    unknown = sorted(
        {node.op_type if node.domain in STANDARD else f"{node.domain}.{node.op_type}" for node in nodes}
        - {*known_operators(), "Constant"}
        | {node.op_type for node in nodes if node.op_type in UNREAD}
    )
    if unknown:
        raise ArtifactError(f"{path} uses operators that the reference engine lacks: {some_of(unknown, 8)}.")
    opset = opset_of(model)
    if opset > onnx.defs.onnx_opset_version():
        raise ArtifactError(
            f"{path} uses opset {opset}, which is newer than the {onnx.defs.onnx_opset_version()} that is known here."
        )
    other = sorted({node.op_type for node in nodes if opset < LOWEST_OPSET and _meant_otherwise(node.op_type, opset)})
    if other:
        raise ArtifactError(
            f"{path} uses opset {opset}, in which {some_of(other, 8)} had another meaning; the reference engine knows "
            f"that of opset {LOWEST_OPSET} and later."
        )
    try:
        return _built(model, nodes, opset, path)
    except GraphError as fault:
        raise ArtifactError(f"{path} cannot be read as a graph: {fault}") from fault
    except (KeyError, TypeError, ValueError, IndexError, AttributeError, ArithmeticError, UnicodeDecodeError) as fault:
        raise ArtifactError(f"{path} cannot be read as a graph ({type(fault).__name__}: {fault}).") from fault


def _meant_otherwise(operator: str, opset: int) -> bool:
    """Whether the standard has changed an operator between an opset and the oldest that is written."""
    try:
        versions = {onnx.defs.get_schema(operator, each).since_version for each in (opset, LOWEST_OPSET)}
    except onnx.defs.SchemaError:
        return True
    return len(versions) > 1


def _of_inlet(node: onnx.NodeProto) -> bool:
    """Whether a node belongs to the inlet that an artifact of ours holds."""
    return node.name.startswith(f"{LAYER}/")


def _built(model: onnx.ModelProto, nodes: list[onnx.NodeProto], opset: int, path: Path) -> Graph:
    constants = {tensor.name: _array(tensor, path) for tensor in model.graph.initializer}
    for node in nodes:
        if node.op_type == "Constant":
            constants[node.output[0]] = _constant(node, path)
    builder, added = GraphBuilder(), set()
    for name, type in _inputs(model, constants, path).items():
        builder.input(name, type)
    for node in nodes:
        if node.op_type == "Constant":
            continue
        inputs, attributes = _own_form(node, opset, constants, path)
        for name in inputs:
            if name in constants and name not in added:
                builder.constant(name, constants[name])
                added.add(name)
        if node.op_type == "Expand" and inputs[1] in builder.contents:
            # The sizes are worked out from the batch, as a class token needs them.
            attributes["sizes"] = tuple(builder.contents[inputs[1]].tolist())
        # The standard lets results out that nobody reads.
        spare = (f"{node.name or node.op_type}.result{index}" for index in range(_SPARE))
        outputs = [name or builder.free_name(next(spare)) for name in node.output]
        outputs += [builder.free_name(next(spare)) for _ in range(operator_named(node.op_type).results - len(outputs))]
        builder.add(node.op_type, inputs, outputs, node.name.rpartition("/")[0], **attributes)
    for info in model.graph.output:
        if info.name in constants and info.name not in added:
            builder.constant(info.name, constants[info.name])
    return builder.finish(info.name for info in model.graph.output)


def _inputs(model: onnx.ModelProto, constants: Mapping[str, np.ndarray], path: Path) -> dict[str, TensorType]:
    """The inputs; the first axis of one is the batch if it has a name instead of a number."""
    properties = {each.key: each.value for each in model.metadata_props}
    if TENSOR_KEY in properties:
        inlet = Metadata.from_properties(properties, str(path)).inlet
        shape = inlet and tensor_shape(inlet)
        if not shape:
            raise ArtifactError(f"{path} takes raw pixels, but its metadata do not describe the tensor of its inlet.")
        return {properties[TENSOR_KEY]: TensorType(np.dtype(inlet.tensor.dtype), (Batch(), *shape))}
    types = {}
    for info in model.graph.input:
        if info.name in constants:
            continue
        dtype, shape = declared(info)
        if dtype not in _DTYPES:
            raise ArtifactError(
                f"{path} takes {info.name} as {dtype}, which the reference engine does not compute with."
            )
        if not info.type.tensor_type.HasField("shape") or any(not isinstance(size, int) for size in shape[1:]):
            raise ArtifactError(
                f"{path} leaves sizes of its input {info.name} open ({list(shape)}); the reference engine takes only "
                "the batch (axis 0) so."
            )
        types[info.name] = TensorType(
            np.dtype(dtype), tuple(size if isinstance(size, int) else Batch() for size in shape)
        )
    return types


def _array(tensor: onnx.TensorProto, path: Path) -> np.ndarray:
    """The numbers of a weight; memory-mapped where they are in an external file."""
    dtype = helper.tensor_dtype_to_np_dtype(tensor.data_type)
    if dtype.name not in _DTYPES:
        raise ArtifactError(f"{path} keeps {tensor.name} as {dtype}, which the reference engine does not compute with.")
    if tensor.data_location != TensorProto.EXTERNAL:
        return numpy_helper.to_array(tensor)
    beside, offset, length = external_bytes(tensor, path)
    if not length:
        return np.zeros(tuple(tensor.dims), dtype)
    return np.memmap(beside, dtype, "r", offset, tuple(tensor.dims))


def _constant(node: onnx.NodeProto, path: Path) -> np.ndarray:
    if len(node.attribute) != 1 or node.attribute[0].name not in _CONSTANT_FORMS:
        raise ArtifactError(f"{path} has a constant {node.output[0]} in a form that is not supported.")
    (form,) = node.attribute
    if form.name == "value":
        return _array(form.t, path)
    return np.asarray(helper.get_attribute_value(form), _CONSTANT_FORMS[form.name])


def _own_form(
    node: onnx.NodeProto, opset: int, constants: Mapping[str, np.ndarray], path: Path
) -> tuple[list[str], dict[str, Any]]:
    """The inputs and attributes of a node, static parameters moved from the former to the latter."""
    given = {each.name: helper.get_attribute_value(each) for each in node.attribute}
    attributes = {name: _plain(value) for name, value in given.items()}
    inputs = list(node.input)
    spelling = spelling_of(node.op_type)
    for name in spelling.dtypes:
        if name in attributes:
            attributes[name] = helper.tensor_dtype_to_np_dtype(attributes[name]).name
    for name, slot in spelling.slots.items():
        if opset < slot.since or slot.place >= len(inputs):
            continue
        if inputs[slot.place]:
            if inputs[slot.place] not in constants:
                raise ArtifactError(
                    f"{path} computes the {name} of {node.name or node.op_type} at run time; the reference engine "
                    "needs it as a constant."
                )
            value = constants[inputs[slot.place]]
            attributes[name] = value.item() if slot.scalar else value.tolist()
        inputs[slot.place] = ""
    while inputs and not inputs[-1]:
        inputs.pop()
    return inputs, attributes


def _plain(value: Any) -> Any:
    if isinstance(value, bytes):
        return value.decode()
    return [_plain(each) for each in value] if isinstance(value, (list, tuple)) else value
