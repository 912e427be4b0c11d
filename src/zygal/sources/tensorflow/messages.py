"""The messages of the open schema that saved models, graphs and tables of variables are written in, as far as they are
read.

The descriptors are stated here, field by field with their numbers, and the protobuf runtime makes the classes of them.
They live in a pool of their own, so that the framework may be loaded in the same process.
"""

from __future__ import annotations

from functools import cache
from typing import Any

DTYPES = {
    1: "float32",
    2: "float64",
    3: "int32",
    4: "uint8",
    5: "int16",
    6: "int8",
    7: "string",
    8: "complex64",
    9: "int64",
    10: "bool",
    11: "qint8",
    12: "quint8",
    13: "qint32",
    14: "bfloat16",
    15: "qint16",
    16: "quint16",
    17: "uint16",
    18: "complex128",
    19: "float16",
    20: "resource",
    21: "variant",
    22: "uint32",
    23: "uint64",
}
"""The schema's numbers for dtypes. What is a reference to a variable is a hundred more."""
_SPELT = {
    "float32": "DT_FLOAT",
    "float64": "DT_DOUBLE",
    "float16": "DT_HALF",
}

# message -> field -> (number, type); "*" in front of a type: repeated; "{}": a map from text, "{#}" from numbers;
# "|": one of the fields that exclude each other.
_SCHEMA: dict[str, dict[str, tuple[int, str]]] = {
    "Dim": {"size": (1, "int64"), "name": (2, "string")},
    "TensorShapeProto": {"dim": (2, "*Dim"), "unknown_rank": (3, "bool")},
    "TensorProto": {
        "dtype": (1, "DataType"), "tensor_shape": (2, "TensorShapeProto"), "tensor_content": (4, "bytes"),
        "half_val": (13, "*int32"),
        "float_val": (5, "*float"), "double_val": (6, "*double"), "int_val": (7, "*int32"), "string_val": (8, "*bytes"),
        "int64_val": (10, "*int64"), "bool_val": (11, "*bool"), "uint32_val": (16, "*uint32"), "uint64_val": (17,
        "*uint64"),
    },
    "NameAttrList": {"name": (1, "string"), "attr": (2, "{}AttrValue")},
    "ListValue": {
        "s": (2, "*bytes"), "i": (3, "*int64"), "f": (4, "*float"), "b": (5, "*bool"), "type": (6, "*DataType"),
        "shape": (7, "*TensorShapeProto"), "tensor": (8, "*TensorProto"), "func": (9, "*NameAttrList"),
    },
    "AttrValue": {
        "s": (2, "|bytes"), "i": (3, "|int64"), "f": (4, "|float"), "b": (5, "|bool"), "type": (6, "|DataType"),
        "shape": (7, "|TensorShapeProto"), "tensor": (8, "|TensorProto"), "list": (1, "|ListValue"), "func": (10,
        "|NameAttrList"),
        "placeholder": (9, "|string"),
    },
    "NodeDef": {"name": (1, "string"), "op": (2, "string"), "input": (3, "*string"), "device": (4, "string"),
    "attr": (5, "{}AttrValue")},
    "ArgDef": {"name": (1, "string"), "type": (3, "DataType"), "type_attr": (4, "string"), "number_attr": (5, "string"),
               "type_list_attr": (6, "string")},
    "OpDef": {"name": (1, "string"), "input_arg": (2, "*ArgDef"), "output_arg": (3, "*ArgDef")},
    "ArgAttrs": {"attr": (1, "{}AttrValue")},
    "FunctionDef": {"signature": (1, "OpDef"), "attr": (5, "{}AttrValue"), "arg_attr": (7, "{#}ArgAttrs"),
    "node_def": (3, "*NodeDef"),
                    "ret": (4, "{}string")},
    "FunctionDefLibrary": {"function": (1, "*FunctionDef")},
    "VersionDef": {"producer": (1, "int32"), "min_consumer": (2, "int32")},
    "GraphDef": {"node": (1, "*NodeDef"), "versions": (4, "VersionDef"), "library": (2, "FunctionDefLibrary")},
    "TensorInfo": {"name": (1, "string"), "dtype": (2, "DataType"), "tensor_shape": (3, "TensorShapeProto")},
    "SignatureDef": {"inputs": (1, "{}TensorInfo"), "outputs": (2, "{}TensorInfo"), "method_name": (3, "string")},
    "SaverDef": {"filename_tensor_name": (1, "string"), "save_tensor_name": (2, "string"), "restore_op_name": (3,
    "string")},
    "AssetFileDef": {"tensor_info": (1, "TensorInfo"), "filename": (2, "string")},
    "MetaInfoDef": {"meta_graph_version": (1, "string"), "tags": (4, "*string"), "tensorflow_version": (5, "string")},
    "ObjectReference": {"node_id": (1, "int32"), "local_name": (2, "string")},
    "SavedAsset": {"asset_file_def_index": (1, "int32")},
    "SavedVariable": {"dtype": (1, "DataType"), "shape": (2, "TensorShapeProto"), "trainable": (3, "bool"), "name": (6,
    "string")},
    "SavedFunction": {"concrete_functions": (1, "*string")},
    "SavedObject": {
        "children": (1, "*ObjectReference"), "asset": (5, "SavedAsset"), "function": (6, "SavedFunction"),
        "variable": (7, "SavedVariable"),
    },
    "SavedConcreteFunction": {"bound_inputs": (2, "*int32")},
    "SavedObjectGraph": {"nodes": (1, "*SavedObject"), "concrete_functions": (2, "{}SavedConcreteFunction")},
    "MetaGraphDef": {
        "meta_info_def": (1, "MetaInfoDef"), "graph_def": (2, "GraphDef"), "saver_def": (3, "SaverDef"),
        "signature_def": (5, "{}SignatureDef"), "asset_file_def": (6, "*AssetFileDef"), "object_graph_def": (7,
        "SavedObjectGraph"),
    },
    "SavedModel": {"saved_model_schema_version": (1, "int64"), "meta_graphs": (2, "*MetaGraphDef")},
    "SerializedTensor": {"name": (1, "string"), "full_name": (2, "string"), "checkpoint_key": (3, "string")},
    "TrackableObject": {"children": (1, "*ObjectReference"), "attributes": (2, "*SerializedTensor")},
    "TrackableObjectGraph": {"nodes": (1, "*TrackableObject")},
    "Extent": {"start": (1, "int64"), "length": (2, "int64")},
    "TensorSliceProto": {"extent": (1, "*Extent")},
    "BundleHeaderProto": {"num_shards": (1, "int32"), "endianness": (2, "int32")},
    "BundleEntryProto": {
        "dtype": (1, "DataType"), "shape": (2, "TensorShapeProto"), "shard_id": (3, "int32"), "offset": (4, "int64"),
        "size": (5, "int64"),
        "crc32c": (6, "fixed32"), "slices": (7, "*TensorSliceProto"),
    },
}  # fmt: skip


@cache
def message(name: str) -> Any:
    """The class of a message. The first call makes all of them."""
    return _classes()[name]


@cache
def _classes() -> dict[str, Any]:
    from google.protobuf import descriptor_pb2, descriptor_pool, message_factory

    package = "zygal.saved"
    file = descriptor_pb2.FileDescriptorProto(name="zygal/saved.proto", package=package, syntax="proto3")
    enumeration = file.enum_type.add(name="DataType")
    enumeration.value.add(name="DT_INVALID", number=0)
    for number, dtype in DTYPES.items():
        spelt = _SPELT.get(dtype, f"DT_{dtype.upper()}")
        enumeration.value.add(name=spelt, number=number)
        enumeration.value.add(name=f"{spelt}_REF", number=number + 100)
    for name, fields in _SCHEMA.items():
        described = file.message_type.add(name=name)
        if any(kind.startswith("|") for _, kind in fields.values()):
            described.oneof_decl.add(name="value")
        for field, (number, kind) in fields.items():
            _add_field(described, field, number, kind, f".{package}.{name}", package)
    pool = descriptor_pool.DescriptorPool()
    pool.Add(file)
    return {name: message_factory.GetMessageClass(pool.FindMessageTypeByName(f"{package}.{name}")) for name in _SCHEMA}


def _add_field(described: Any, name: str, number: int, kind: str, owner: str, package: str) -> None:
    from google.protobuf import descriptor_pb2

    kinds = descriptor_pb2.FieldDescriptorProto
    field = described.field.add(
        name=name, number=number, label=kinds.LABEL_REPEATED if kind[0] in "*{" else kinds.LABEL_OPTIONAL
    )
    if kind[0] == "|":
        field.oneof_index = 0
    if kind.startswith("{"):
        key_type, value_kind = "uint32" if kind[1] == "#" else "string", kind.partition("}")[2]
        entry = "".join(part.capitalize() for part in name.split("_")) + "Entry"
        inner = described.nested_type.add(name=entry)
        inner.options.map_entry = True
        _add_field(inner, "key", 1, key_type, "", package)
        _add_field(inner, "value", 2, value_kind, "", package)
        field.type, field.type_name = kinds.TYPE_MESSAGE, f"{owner}.{entry}"
        return
    plain = kind.lstrip("*|")
    if hasattr(kinds, f"TYPE_{plain.upper()}"):
        field.type = getattr(kinds, f"TYPE_{plain.upper()}")
    else:
        field.type = kinds.TYPE_ENUM if plain == "DataType" else kinds.TYPE_MESSAGE
        field.type_name = f".{package}.{plain}"
