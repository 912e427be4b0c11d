"""Validation of an ONNX message as a whole, once, before anything walks it.

What is checked is what walking relies on: every value is made once and before it is read, so there are no cycles;
names, dimensions and dtypes are sound; the bytes of every tensor fit its shape; weights beside the file lie in its
folder.
"""

from __future__ import annotations

import os
from collections.abc import Collection, Iterator
from math import prod
from pathlib import Path

import onnx
from onnx import TensorProto, helper

from zygal.errors import ArtifactError, shown

STANDARD = ("", "ai.onnx")
MOST_AXES = 32
DEEPEST_BLOCK = 8
_PACKED = {TensorProto.INT4: 2, TensorProto.UINT4: 2}
if hasattr(TensorProto, "FLOAT4E2M1"):
    _PACKED[TensorProto.FLOAT4E2M1] = 2
_FIELDS = {
    TensorProto.FLOAT: "float_data",
    TensorProto.DOUBLE: "double_data",
    TensorProto.INT64: "int64_data",
    TensorProto.UINT64: "uint64_data",
    TensorProto.UINT32: "uint64_data",
    TensorProto.STRING: "string_data",
    TensorProto.COMPLEX64: "float_data",
    TensorProto.COMPLEX128: "double_data",
}


def validate(model: onnx.ModelProto, path: Path) -> None:
    """Raises ArtifactError naming the first thing that is not sound."""
    try:
        _Validator(model, path).run()
    except (RecursionError, UnicodeDecodeError) as fault:
        raise ArtifactError(f"{path} is damaged (nested too deep, or names that are no text).") from fault


class _Validator:
    def __init__(self, model: onnx.ModelProto, path: Path):
        self._model, self._path = model, path
        self._domains: set[str] = set()

    def _refuse(self, what: str) -> None:
        raise ArtifactError(f"{self._path} is damaged: {what}; convert it again from its source.")

    def run(self) -> None:
        if not self._model.HasField("graph") or not self._model.graph.output:
            self._refuse("it contains no model, or a model without outputs")
        for each in self._model.opset_import:
            if each.domain in self._domains or each.domain in STANDARD and self._domains & set(STANDARD):
                self._refuse(f"it imports the operators of {shown(each.domain)} twice")
            if not 1 <= each.version <= 1000:
                self._refuse(f"it imports version {each.version} of the operators of {shown(each.domain)}")
            self._domains.add(each.domain)
        if not self._domains & set(STANDARD):
            self._refuse("it does not import a version of the standard operator set")
        self._functions()
        self._graph(self._model.graph, set(), 0)

    def _functions(self) -> None:
        """Bodies of nodes that read what the function is given, and return what they make."""
        names = [(each.domain, each.name) for each in self._model.functions]
        if len(set(names)) != len(names):
            self._refuse("two of its functions have one name")
        outside = self._domains
        for function in self._model.functions:
            self._domains = {"" if each.domain in STANDARD else each.domain for each in function.opset_import}
            made = set(function.input)
            attributes = {*function.attribute, *(each.name for each in function.attribute_proto)}
            for node in function.node:
                self._node(node, made, set(), 0, attributes)
            for name in function.output:
                if name not in made:
                    self._refuse(f"the function {shown(function.name)} returns {shown(name)}, which it does not make")
        self._domains = outside

    def _graph(self, graph: onnx.GraphProto, outer: set[str], depth: int, arguments: Collection[str] = ()) -> None:
        """One graph; blocks inside nodes may read what was made outside before them."""
        if depth > DEEPEST_BLOCK:
            self._refuse(f"it nests blocks more than {DEEPEST_BLOCK} deep")
        if graph.sparse_initializer or graph.quantization_annotation:
            self._refuse("it contains sparse weights or quantisation annotations, which are not supported")
        made: set[str] = set()
        constants = {tensor.name for tensor in graph.initializer}
        if len(constants) != len(graph.initializer) or "" in constants:
            self._refuse("two of its weights have one name, or none")
        for tensor in graph.initializer:
            self._tensor(tensor)
        made |= constants
        for info in graph.input:
            # Older files list their weights among the inputs as well.
            if not info.name or info.name in made - constants:
                self._refuse(f"two of its inputs are named {shown(info.name)}")
            self._type(info)
            made.add(info.name)
        for node in graph.node:
            self._node(node, made, outer, depth, arguments)
        for info in (*graph.output, *graph.value_info):
            self._type(info)
        if len({info.name for info in graph.output}) != len(graph.output):
            self._refuse("two of its outputs have one name")
        for info in graph.output:
            if info.name not in made and not (depth and info.name in outer):
                self._refuse(f"its output {shown(info.name)} is not produced by any node")

    def _node(
        self, node: onnx.NodeProto, made: set[str], outer: set[str], depth: int, arguments: Collection[str] = ()
    ) -> None:
        """arguments: the attributes of the function that the node is in."""
        named = shown(node.name or node.op_type)
        domain = "" if node.domain in STANDARD else node.domain
        if not node.op_type or not any(name for name in node.output):
            self._refuse(f"the node {named} has no operator or no result")
        if domain not in self._domains and not (domain in STANDARD and self._domains & set(STANDARD)):
            self._refuse(f"the node {named} is of the domain {shown(domain)}, which is not imported")
        for name in node.input:
            if name and name not in made and name not in outer:
                self._refuse(f"the node {named} reads {shown(name)}, which no earlier node produces")
        names = [each.name for each in node.attribute]
        if len(set(names)) != len(names) or "" in names:
            self._refuse(f"the node {named} has an attribute twice, or without a name")
        for attribute in node.attribute:
            self._attribute(attribute, named, made | outer, depth, arguments)
        for name in node.output:
            if name and name in made:
                self._refuse(f"the value {shown(name)} is produced twice")
            made.add(name)
        made.discard("")

    def _attribute(
        self, attribute: onnx.AttributeProto, node: str, seen: set[str], depth: int, arguments: Collection[str]
    ) -> None:
        if attribute.type == onnx.AttributeProto.UNDEFINED or attribute.type not in _ATTRIBUTE_TYPES:
            self._refuse(f"the attribute {shown(attribute.name)} of {node} has an unknown type")
        if attribute.ref_attr_name and attribute.ref_attr_name not in arguments:
            self._refuse(f"the attribute {shown(attribute.name)} of {node} refers to one that no function has")
        for tensor in _tensors_of(attribute):
            self._tensor(tensor)
        blocks = [attribute.g] if attribute.type == onnx.AttributeProto.GRAPH else attribute.graphs
        for block in blocks:
            self._graph(block, seen, depth + 1, arguments)

    def _type(self, info: onnx.ValueInfoProto) -> None:
        if not info.HasField("type") or not info.type.HasField("tensor_type"):
            if info.HasField("type") and info.type.WhichOneof("value") is not None:
                self._refuse(f"{shown(info.name)} is no tensor")
            return
        tensor = info.type.tensor_type
        if tensor.elem_type not in _DTYPES:
            self._refuse(f"{shown(info.name)} is of the dtype number {tensor.elem_type}, which is not known")
        if len(tensor.shape.dim) > MOST_AXES:
            self._refuse(f"{shown(info.name)} has {len(tensor.shape.dim)} axes")
        for size in tensor.shape.dim:
            # Some exporters state an open size as -1.
            if size.HasField("dim_value") and not -1 <= size.dim_value < 2**40:
                self._refuse(f"{shown(info.name)} has an axis of the size {size.dim_value}")

    def _tensor(self, tensor: onnx.TensorProto) -> None:
        named = shown(tensor.name or "a constant")
        if tensor.data_type not in _DTYPES:
            self._refuse(f"the weight {named} is of the dtype number {tensor.data_type}, which is not known")
        if len(tensor.dims) > MOST_AXES or any(size < 0 for size in tensor.dims) or tensor.HasField("segment"):
            self._refuse(f"the weight {named} has a shape that no tensor has")
        count = prod(tensor.dims)
        if count >= 2**40:
            self._refuse(f"the weight {named} claims {count} numbers")
        if tensor.data_location == TensorProto.EXTERNAL:
            external_bytes(tensor, self._path)
            return
        if tensor.external_data:
            self._refuse(f"the weight {named} is stored both inside and beside the file")
        per_byte = _PACKED.get(tensor.data_type, 1)
        width = helper.tensor_dtype_to_np_dtype(tensor.data_type).itemsize
        if tensor.HasField("raw_data"):
            wanted = -(-count // per_byte) if per_byte > 1 else count * width
            if len(tensor.raw_data) != wanted or tensor.data_type == TensorProto.STRING:
                self._refuse(f"the weight {named} is {list(tensor.dims)}, but {len(tensor.raw_data)} bytes are there")
            return
        numbers = getattr(tensor, _FIELDS.get(tensor.data_type, "int32_data"))
        parts = 2 if tensor.data_type in (TensorProto.COMPLEX64, TensorProto.COMPLEX128) else 1
        if len(numbers) != (-(-count // per_byte) if per_byte > 1 else count * parts):
            self._refuse(f"the weight {named} is {list(tensor.dims)}, but {len(numbers)} numbers are there")


_DTYPES = frozenset(number for name, number in TensorProto.DataType.items() if name != "UNDEFINED")
_ATTRIBUTE_TYPES = frozenset(onnx.AttributeProto.AttributeType.values())


def _tensors_of(attribute: onnx.AttributeProto) -> Iterator[onnx.TensorProto]:
    if attribute.type == onnx.AttributeProto.TENSOR:
        yield attribute.t
    elif attribute.type == onnx.AttributeProto.SPARSE_TENSOR:
        yield attribute.sparse_tensor.values
        yield attribute.sparse_tensor.indices
    yield from attribute.tensors


def tensors_of(model: onnx.ModelProto) -> Iterator[onnx.TensorProto]:
    """Every constant tensor of a message: weights, and what attributes hold, inner graphs and functions included."""
    waiting: list = [model.graph]
    nodes = [node for function in model.functions for node in function.node]
    while waiting or nodes:
        if waiting:
            graph = waiting.pop()
            yield from graph.initializer
            for sparse in graph.sparse_initializer:
                yield from (sparse.values, sparse.indices)
            nodes += graph.node
        for attribute in nodes.pop().attribute if nodes else ():
            yield from _tensors_of(attribute)
            waiting += [*([attribute.g] if attribute.type == onnx.AttributeProto.GRAPH else []), *attribute.graphs]


def external_bytes(tensor: onnx.TensorProto, path: Path) -> tuple[Path, int, int]:
    """The external file of a weight, and its offset and length there. Raises ArtifactError.

    The file must lie in the artifact's own folder or below it, links that lead elsewhere included, and be long enough.
    """
    named = shown(tensor.name or "a constant")
    entries = {each.key: each.value for each in tensor.external_data}
    unknown = entries.keys() - {"location", "offset", "length", "checksum"}
    location = entries.get("location", "")
    numbers = [entries.get(key, "") for key in ("offset", "length")]
    if (
        unknown
        or not location
        or not all(each == "" or each.isascii() and each.isdigit() and len(each) < 18 for each in numbers)
    ):
        raise ArtifactError(f"{path} is damaged: it does not name the file of the weight {named}; convert it again.")
    folder, beside = os.path.realpath(path.parent), path.parent / location.replace("\0", "")
    inside = os.path.realpath(beside).startswith(os.path.join(folder, ""))
    if "\0" in location or os.path.isabs(location) or ".." in Path(location).parts or not inside:
        raise ArtifactError(
            f"{path} keeps the weight {named} in {shown(location)}, which is not in its folder; it is not followed."
        )
    if not os.path.isfile(beside):
        raise ArtifactError(
            f"{path} needs the file {shown(location)} with its weights beside it, which does not exist; copy "
            f"both files together."
        )
    offset = int(numbers[0] or 0)
    size = os.path.getsize(beside)
    length = int(numbers[1]) if numbers[1] else size - offset
    width = helper.tensor_dtype_to_np_dtype(tensor.data_type).itemsize
    if offset + length > size or length != prod(tensor.dims) * width or tensor.data_type in _PACKED:
        raise ArtifactError(
            f"{path} does not fit {shown(location)}: the weight {named} of {list(tensor.dims)} is incomplete; copy "
            "both files again."
        )
    return beside, offset, length
