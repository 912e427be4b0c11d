"""What the standard says of an operator in an opset: its form, its attributes, its definition by simpler ones."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from functools import cache
from typing import Any

import onnx
from onnx import AttributeProto, TensorProto, helper

from zygal.errors import SourceError
from zygal.graph import TensorType

OLDEST, NEWEST = 7, onnx.defs.onnx_opset_version()
"""The opsets whose operators are known. Before 7, operands were broadcast by rules of their own; operators that were
not changed since are known in older opsets too."""


def schema(kind: str, opset: int, where: str):
    """The standard's statement of an operator in an opset; None if it has none. Raises SourceError on an old
    meaning."""
    found, later = _schema_of(kind, opset), _schema_of(kind, OLDEST)
    if opset < OLDEST and found is not None and found.since_version != (later and later.since_version):
        raise SourceError(
            f"{where} uses opset {opset}, in which {kind} had another meaning; export the model with opset {OLDEST} or "
            "later."
        )
    return found


def definition(
    found, node: onnx.NodeProto, types: Sequence[TensorType | None], version: int
) -> onnx.FunctionProto | None:
    """The standard's own definition of an operator by simpler ones; None where it has none for these inputs. found: its
    statement. types: of the inputs; None for one that is left out."""
    version = max(found.since_version, version)
    if found.has_function:
        versions = [each for each in found.function_opset_versions if each <= version]
        text = found.get_function_with_opset_version(max(versions, default=found.since_version))
        return onnx.FunctionProto.FromString(text) if text else None
    versions = [each for each in found.context_dependent_function_opset_versions if each <= version]
    if not versions:
        return None
    given = []
    for type in types:
        dtype = helper.np_dtype_to_tensor_dtype(type.dtype) if type is not None else TensorProto.UNDEFINED
        sizes = type and [size if isinstance(size, int) else None for size in type.shape]
        given.append(helper.make_tensor_type_proto(dtype, sizes).SerializeToString())
    text = found.get_context_dependent_function_with_opset_version(max(versions), node.SerializeToString(), given)
    return onnx.FunctionProto.FromString(text) if text else None


@cache
def _schema_of(kind: str, version: int):
    """The standard's statement of an operator at a version; None if it has none, or has given it up before."""
    try:
        found = onnx.defs.get_schema(kind, version)
    except onnx.defs.SchemaError:
        return None
    return None if found.deprecated else found


def attributes(node: onnx.NodeProto, arguments: Mapping[str, AttributeProto] | None) -> dict[str, AttributeProto]:
    """A node's attributes; those that refer to the attributes of the function that the node is in, by their values."""
    found = {}
    for each in node.attribute:
        if not each.ref_attr_name:
            found[each.name] = each
        elif arguments is not None and each.ref_attr_name in arguments:
            found[each.name] = arguments[each.ref_attr_name]
    return found


def resolved(node: onnx.NodeProto, attributes: Mapping[str, AttributeProto]) -> onnx.NodeProto:
    """The node with what its attributes refer to in their place."""
    made = onnx.NodeProto()
    made.CopyFrom(node)
    del made.attribute[:]
    for name, each in attributes.items():
        made.attribute.add().CopyFrom(each)
        made.attribute[-1].name = name
    return made


def with_defaults(attributes: Mapping[str, AttributeProto], schema) -> dict[str, AttributeProto]:
    """A node's attributes, and the standard's values of those that are left out."""
    stated = {name: each.default_value for name, each in schema.attributes.items() if each.default_value.name}
    return {**stated, **attributes}


def check_form(schema, attributes: Mapping[str, AttributeProto], inputs: int) -> None:
    """Raises ValueError where a node is not of the form that the standard states."""
    if not schema.min_input <= inputs <= schema.max_input:
        raise ValueError(f"{inputs} inputs, where the standard has {schema.min_input} to {schema.max_input}")
    for name, attribute in attributes.items():
        stated = schema.attributes.get(name)
        if stated is None:
            raise ValueError(f"the attribute {name} is not one of opset {schema.since_version}")
        if int(stated.type.value) != attribute.type:
            raise ValueError(f"the attribute {name} is of another type than the standard's")
    for name, stated in schema.attributes.items():
        if stated.required and name not in attributes:
            raise ValueError(f"the attribute {name} is missing")


def plain(attribute: AttributeProto) -> Any:
    """An attribute as numbers and text; one that holds a tensor or a graph as it is."""
    if attribute.type in (AttributeProto.TENSOR, AttributeProto.GRAPH):
        return attribute
    return _decoded(helper.get_attribute_value(attribute))


def _decoded(value: Any) -> Any:
    if isinstance(value, bytes):
        return value.decode()
    return [_decoded(each) for each in value] if isinstance(value, (list, tuple)) or hasattr(value, "append") else value
