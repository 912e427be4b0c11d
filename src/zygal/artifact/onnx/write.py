"""A graph to an ONNX file.

The weights go from their constants straight into the file, one after the other: an ONNX file is a
protobuf message, and fields of a message may follow each other in any order, so everything but the
weights is built and checked with the format's own library, and the weights are appended.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from io import BytesIO
from pathlib import Path
from typing import BinaryIO

import numpy as np
import onnx
from onnx import TensorProto, helper

from zygal import __version__
from zygal.artifact.formats import Writing, Written
from zygal.artifact.onnx.spelling import LOWEST_OPSET, Slot, needed_opset, spelling_of
from zygal.classifier.metadata import Metadata
from zygal.errors import ArtifactError
from zygal.files.writing import whole_file
from zygal.graph import Graph, Node, TensorType
from zygal.graph.ops import operator_named
from zygal.graph.passes.stored import drop_limits_of_storing, halved
from zygal.graph.shapes import OPEN
from zygal.inlet.front import LAYER

LARGEST_FILE_BYTES = 2**31 - 1
SPARE_BYTES = 16_000_000
"""Kept free in a file of the largest size for everything that is not a weight."""

# Field numbers of the standard's messages, shifted for the wire type "length-delimited".
_MODEL_GRAPH, _GRAPH_INITIALIZER, _TENSOR_RAW_DATA = (number << 3 | 2 for number in (7, 5, 9))


def write(graph: Graph, path: str | Path, metadata: Metadata, writing: Writing = Writing()) -> Written:
    """Writes the graph to `path`, whole or not at all; the same graph gives the same bytes.

    A model of 2 GB or more keeps its weights in a second file, PATH.weights, which must stay beside it; so does any if
    it is asked for. Raises ArtifactError if the opset cannot express the graph or the standard's full checker refuses
    it, OutputError if it cannot be written.
    """
    graph = drop_limits_of_storing(graph)
    if writing.half:
        graph = halved(graph)
    check_opset(graph, writing.opset)
    model, constants = build_model(graph, metadata, writing.opset)
    _check(model, constants)
    operators = dict(Counter(node.operator for node in graph.nodes).most_common())
    if writing.weights_beside or sum(array.nbytes for array in constants.values()) > LARGEST_FILE_BYTES - SPARE_BYTES:
        return Written(operators, weights=_write_beside(Path(path), model, constants))
    with whole_file(path) as file:
        _write(file, model, constants)
    return Written(operators)


def model_bytes(graph: Graph, opset: int) -> bytes:
    """The whole file's bytes, for a session that is not kept. Raises ArtifactError for models of 2 GB or more."""
    model, constants = build_model(drop_limits_of_storing(graph), Metadata(), opset)
    if sum(array.nbytes for array in constants.values()) > LARGEST_FILE_BYTES - SPARE_BYTES:
        raise ArtifactError("a model of 2 GB or more cannot be held as one message.")
    file = BytesIO()
    _write(file, model, constants)
    return file.getvalue()


def check_opset(graph: Graph, opset: int) -> None:
    """Raises ArtifactError naming the layers that need a later version of the standard."""
    newest = onnx.defs.onnx_opset_version()
    if not LOWEST_OPSET <= opset <= newest:
        raise ArtifactError(f"opset {opset} is not one that can be written; choose {LOWEST_OPSET} to {newest}.")
    late = {node.operator: node for node in graph.nodes if needed_opset(node) > opset}
    if late:
        lowest = max(needed_opset(node) for node in late.values())
        listed = ", ".join(f"{name} (layer {node.layer or node.outputs[0]})" for name, node in sorted(late.items()))
        raise ArtifactError(f"opset {opset} cannot express {listed}; the lowest that can is opset {lowest}.")


def _write_beside(path: Path, model: onnx.ModelProto, constants: dict[str, np.ndarray]) -> Path:
    """The weights into a file of their own, in the standard's form for external data, and its name; small ones stay
    inside."""
    inside = {name: array for name, array in constants.items() if array.nbytes < 1024}
    beside = path.with_name(f"{path.name}.weights")
    with whole_file(path) as file, whole_file(beside) as data:
        for name, array in constants.items():
            if name in inside:
                continue
            # The offsets that runtimes map directly are multiples of a page.
            data.write(b"\0" * (-data.tell() % 4096))
            tensor = TensorProto(name=name, dims=array.shape, data_type=helper.np_dtype_to_tensor_dtype(array.dtype))
            tensor.data_location = TensorProto.EXTERNAL
            for key, value in (("location", beside.name), ("offset", data.tell()), ("length", array.nbytes)):
                tensor.external_data.add(key=key, value=str(value))
            model.graph.initializer.append(tensor)
            for piece in _little_endian_pieces(array):
                data.write(piece)
        _write(file, model, inside)
    return beside


def build_model(graph: Graph, metadata: Metadata, opset: int) -> tuple[onnx.ModelProto, dict[str, np.ndarray]]:
    """The model without its weights, and the weights by name."""
    constants = dict(graph.constants)
    names: dict[str, int] = {}
    nodes = [_node(node, graph, opset, constants, names) for node in graph.nodes]
    inputs = [_value_info(name, graph.types[name]) for name in graph.inputs]
    outputs = [_value_info(name, graph.types[name]) for name in graph.outputs]
    body = helper.make_graph(nodes, "classifier", inputs, outputs)
    imports = [helper.make_opsetid("", opset)]
    model = helper.make_model(body, opset_imports=imports, ir_version=helper.find_min_ir_version_for(imports))
    model.producer_name, model.producer_version = "zygal", __version__
    helper.set_model_props(model, metadata.to_properties())
    # In the order in which they are read, so that a file that is read and written again stays the same.
    read = dict.fromkeys(name for node in nodes for name in node.input if name in constants)
    return model, {name: constants[name] for name in (*read, *(each for each in constants if each not in read))}


def _node(
    node: Node, graph: Graph, opset: int, constants: dict[str, np.ndarray], names: dict[str, int]
) -> onnx.NodeProto:
    operator, spelling = operator_named(node.operator), spelling_of(node.operator)
    inputs, attributes = list(node.inputs), {}
    complete = operator.complete(node.attributes)
    if spelling.rewritten is not None:
        complete = spelling.rewritten(complete, opset)
    for parameter in operator.parameters:
        name, value = parameter.name, complete[parameter.name]
        if isinstance(value, Graph):
            attributes[name] = None
            continue
        # An empty list of axes means all of them, which is what is meant where none is given.
        if value is None or name in spelling.unwritten or value == [] and parameter.default is None:
            continue
        if spelling.plain and value == parameter.default:
            continue
        slot = spelling.slots.get(name)
        if slot is None or opset < slot.since:
            attributes[name] = helper.np_dtype_to_tensor_dtype(np.dtype(value)) if name in spelling.dtypes else value
            continue
        inputs += [""] * (slot.place + 1 - len(inputs))
        inputs[slot.place] = _parameter_constant(name, slot, value, graph.types[node.inputs[0]], constants)
    written = spelling.name or node.operator
    branches = [name for name, value in attributes.items() if value is None]
    for name in branches:
        taken = inputs[1 + sum(len(complete[other].inputs) for other in branches[: branches.index(name)]) :]
        attributes[name] = _branch(complete[name], taken, name, opset, constants, names)
    if branches:
        # A branch sees the values outside, so it takes none.
        inputs = inputs[:1]
    name = _distinct(f"{node.layer or 'model'}/{written}", names)
    return helper.make_node(written, inputs, list(node.outputs), name, **attributes)


def _branch(
    branch: Graph, taken: list[str], name: str, opset: int, constants: dict[str, np.ndarray], names: dict[str, int]
) -> onnx.GraphProto:
    """A graph inside a node, which reads values outside by their names there. Its constants are the whole model's."""
    graph = branch.renamed({inner: outer for inner, outer in zip(branch.inputs, taken) if inner != outer})
    constants.update(graph.constants)
    nodes = [_node(node, graph, opset, constants, names) for node in graph.nodes]
    return helper.make_graph(
        nodes, f"{LAYER}.{name}", [], [_value_info(graph.outputs[0], graph.types[graph.outputs[0]])]
    )


def _parameter_constant(parameter: str, slot: Slot, value, given: TensorType, constants: dict[str, np.ndarray]) -> str:
    """The constant that hands a static parameter over as a tensor; equal ones are shared."""
    array = np.array(value, slot.dtype or given.dtype)
    if not slot.scalar:
        array = array.reshape(-1)
    text = "x".join(str(number) for number in array.reshape(-1).tolist())
    name = f"{parameter}:{array.dtype}:{text}"
    constants[name] = array
    return name


def _distinct(wanted: str, names: dict[str, int]) -> str:
    """`wanted`, or with the first number from 2 on behind it that is free. names: those that are taken, with the last
    number that was tried."""
    name, number = wanted, names.get(wanted, 1)
    while name in names:
        number += 1
        name = f"{wanted}.{number}"
    names[wanted] = number
    names.setdefault(name, 1)
    return name


def _value_info(name: str, type: TensorType) -> onnx.ValueInfoProto:
    shape = [None if size == OPEN else size if isinstance(size, int) else str(size) for size in type.shape]
    return helper.make_tensor_value_info(name, helper.np_dtype_to_tensor_dtype(type.dtype), shape)


def _check(model: onnx.ModelProto, constants: dict[str, np.ndarray]) -> None:
    """The standard's full checker, on the model with its large weights declared instead of held."""
    declared = onnx.ModelProto()
    declared.CopyFrom(model)
    for name, array in constants.items():
        if array.size <= 64:
            declared.graph.initializer.append(onnx.numpy_helper.from_array(np.array(array, order="C"), name))
        else:
            declared.graph.input.append(_value_info(name, TensorType(array.dtype, array.shape)))
    try:
        onnx.checker.check_model(declared, full_check=True)
    except (onnx.checker.ValidationError, onnx.shape_inference.InferenceError) as fault:
        raise ArtifactError(
            f"the artifact would break the ONNX standard ({fault}); please report this model."
        ) from fault


def _write(file: BinaryIO, model: onnx.ModelProto, constants: dict[str, np.ndarray]) -> None:
    body = model.graph.SerializeToString(deterministic=True)
    heads = {name: _tensor_head(name, array) for name, array in constants.items()}
    size = len(body) + sum(
        1 + _varint_size(length) + length for length in (len(head) + constants[n].nbytes for n, head in heads.items())
    )
    envelope = onnx.ModelProto()
    envelope.CopyFrom(model)
    envelope.ClearField("graph")
    file.write(envelope.SerializeToString(deterministic=True))
    file.write(bytes([_MODEL_GRAPH]) + _varint(size) + body)
    for name, head in heads.items():
        file.write(bytes([_GRAPH_INITIALIZER]) + _varint(len(head) + constants[name].nbytes) + head)
        for piece in _little_endian_pieces(constants[name]):
            file.write(piece)


def _tensor_head(name: str, array: np.ndarray) -> bytes:
    """A tensor message up to its raw data."""
    head = TensorProto(name=name, dims=array.shape, data_type=helper.np_dtype_to_tensor_dtype(array.dtype))
    return head.SerializeToString(deterministic=True) + bytes([_TENSOR_RAW_DATA]) + _varint(array.nbytes)


def _little_endian_pieces(array: np.ndarray, most: int = 1 << 20) -> Iterator[memoryview]:
    """The array's elements in row-major order, a part at a time so that no second copy of it is held."""
    ordered = np.ascontiguousarray(array).astype(array.dtype.newbyteorder("<"), copy=False).reshape(-1)
    for start in range(0, ordered.size, most):
        yield memoryview(ordered[start : start + most]).cast("B")


def _varint(number: int) -> bytes:
    """Protobuf's variable-length integer: seven bits a byte, the lowest first."""
    pieces = bytearray()
    while number > 0x7F:
        pieces.append(number & 0x7F | 0x80)
        number >>= 7
    pieces.append(number)
    return bytes(pieces)


def _varint_size(number: int) -> int:
    return len(_varint(number))
