"""What may be in the documents of a captured program: schema 8, as the framework publishes it, rule by rule.

Left out on purpose, and so refused by name: Python objects, operators given as values, complex numbers, and arguments
that no operator of a classifier takes.
"""

from __future__ import annotations

import re
from typing import Any

from zygal.files.documents import (
    Misfit,
    Rule,
    either,
    listed,
    mapping,
    maybe,
    number,
    record,
    text,
    truth,
    union,
    whole,
)

_NAME = re.compile(r"[A-Za-z_][A-Za-z0-9_]{0,300}")
MOST_AXES = 12


def name(value: Any) -> str:
    """A name of a value: it becomes part of code where the framework runs the program."""
    if type(value) is not str or not _NAME.fullmatch(value):
        raise Misfit("a name", value)
    return value


def _member(value: Any) -> str:
    """A file's name inside the archive, in one folder."""
    if type(value) is not str or not 0 < len(value) < 300 or "/" in value or "\\" in value or value in (".", ".."):
        raise Misfit("the name of a file", value)
    return value


def _short(value: Any) -> str:
    return text(value, 2000)


_INT = whole()
_SCALAR_TYPE = whole(0, 100)
_HINT = union({"as_int": _INT, "as_bool": truth, "as_float": number})
_EXPRESSION = record({"expr_str": _short}, {"hint": maybe(_HINT)})
_SIZE = union({"as_expr": _EXPRESSION, "as_int": _INT})
_DEVICE = record({"type": either("cpu", "cuda", "mps", "xpu", "meta")}, {"index": maybe(whole(0, 1000))})
_TENSOR_META = record(
    {
        "dtype": _SCALAR_TYPE,
        "sizes": listed(_SIZE, MOST_AXES),
        "requires_grad": truth,
        "device": _DEVICE,
        "strides": listed(_SIZE, MOST_AXES),
        "storage_offset": _SIZE,
        "layout": whole(0, 7),
    }
)
_TENSOR = record({"name": name})
_SYM_INT = union({"as_name": name, "as_int": _INT})
_SYM_BOOL = union({"as_name": name, "as_bool": truth})
_SYM_FLOAT = union({"as_name": name, "as_float": number})
_OPTIONAL_TENSOR = union({"as_tensor": _TENSOR, "as_none": truth})


def _graph_argument(value: Any) -> dict:
    return record({"name": name, "graph": _graph})(value)


_ARGUMENT = union(
    {
        "as_none": truth,
        "as_tensor": _TENSOR,
        "as_tensors": listed(_TENSOR),
        "as_int": _INT,
        "as_ints": listed(_INT),
        "as_float": number,
        "as_floats": listed(number),
        "as_string": _short,
        "as_sym_int": _SYM_INT,
        "as_sym_ints": listed(_SYM_INT),
        "as_scalar_type": _SCALAR_TYPE,
        "as_memory_format": whole(0, 4),
        "as_layout": whole(0, 7),
        "as_device": _DEVICE,
        "as_bool": truth,
        "as_bools": listed(truth),
        "as_sym_bool": _SYM_BOOL,
        "as_graph": _graph_argument,
        "as_optional_tensors": listed(_OPTIONAL_TENSOR),
        "as_sym_float": _SYM_FLOAT,
        "as_optional_tensor": _OPTIONAL_TENSOR,
    }
)
_NODE = record(
    {
        "target": _short,
        "inputs": listed(record({"name": _short, "arg": _ARGUMENT}, {"kind": maybe(whole(0, 2))})),
        "outputs": listed(_ARGUMENT),
        "metadata": mapping(text),
    },
    {"is_hop_single_tensor_return": maybe(truth), "name": maybe(name)},
)
_graph = record(
    {
        "inputs": listed(_ARGUMENT),
        "outputs": listed(_ARGUMENT),
        "nodes": listed(_NODE),
        "tensor_values": mapping(_TENSOR_META, name),
        "sym_int_values": mapping(_SIZE, name),
        "sym_bool_values": mapping(union({"as_expr": _EXPRESSION, "as_bool": truth}), name),
    },
    {
        "is_single_tensor_return": truth,
        "sym_float_values": mapping(union({"as_expr": _EXPRESSION, "as_float": number}), name),
    },
)
_SIGNATURE = record(
    {
        "input_specs": listed(
            union(
                {
                    "user_input": record({"arg": _ARGUMENT}),
                    "parameter": record({"arg": _TENSOR, "parameter_name": _short}),
                    "buffer": record({"arg": _TENSOR, "buffer_name": _short, "persistent": truth}),
                    "tensor_constant": record({"arg": _TENSOR, "tensor_constant_name": _short}),
                    "constant_input": record(
                        {
                            "name": name,
                            "value": union(
                                {
                                    "as_none": truth,
                                    "as_int": _INT,
                                    "as_float": number,
                                    "as_string": _short,
                                    "as_bool": truth,
                                }
                            ),
                        }
                    ),
                }
            )
        ),
        "output_specs": listed(
            union(
                {
                    "user_output": record({"arg": _ARGUMENT}),
                    "buffer_mutation": record({"arg": _TENSOR, "buffer_name": _short}),
                    "user_input_mutation": record({"arg": _TENSOR, "user_input_name": _short}),
                }
            )
        ),
    }
)
_CALL_SIGNATURE = record(
    {"inputs": listed(_ARGUMENT), "outputs": listed(_ARGUMENT), "in_spec": text, "out_spec": text},
    {"forward_arg_names": maybe(listed(_short))},
)

PROGRAM: Rule = record(
    {
        "graph_module": record(
            {
                "graph": _graph,
                "signature": _SIGNATURE,
                "module_call_graph": listed(record({"fqn": _short}, {"signature": maybe(_CALL_SIGNATURE)})),
            },
            {"metadata": mapping(text), "treespec_namedtuple_fields": mapping(record({"field_names": listed(_short)}))},
        ),
        "opset_version": mapping(_INT),
        "range_constraints": mapping(record({"min_val": maybe(_INT), "max_val": maybe(_INT)}), name),
        "schema_version": record({"major": _INT, "minor": _INT}),
    },
    {"verifiers": listed(_short), "torch_version": _short, "guards_code": listed(text)},
)
"""The document `models/model.json`."""

TENSORS: Rule = record(
    {
        "config": mapping(
            record({"path_name": _member, "is_param": truth, "use_pickle": truth, "tensor_meta": maybe(_TENSOR_META)})
        )
    }
)
"""The documents that say where weights and constants lie."""
