"""A copy of a captured program that is safe to hand to the framework's own loader.

That loader unpickles example inputs and stored objects, evaluates size expressions and guards as
Python code, resolves operator names to arbitrary functions, and writes names into generated code; and among the
operators of its library are some that open files, keep memory that others wrote, or start processes. The copy is
made of what our own reader rebuilt, and only of operators that the tables know: each of them computes numbers
of numbers. Memory that is not written before it is read comes as zeros.
"""

from __future__ import annotations

import ast
import json
import re
import zipfile
from collections.abc import Iterator
from typing import Any, BinaryIO

from zygal.errors import SourceError, UnknownOperators, shown, some_of
from zygal.files.archives import zip_faults
from zygal.files.documents import parse_json
from zygal.sources.pytorch.archive import STRIDED, ProgramArchive
from zygal.sources.pytorch.modes import ALWAYS_TRAINING, RANDOM, evaluation_argument, operator_of
from zygal.sources.pytorch.program import GRADIENT_SWITCHES
from zygal.sources.pytorch.tensors import StoredTensor
from zygal.sources.pytorch.translate import known_operator

_SIZE_FUNCTIONS = frozenset(
    ("Symbol", "Integer", "Mul", "Add", "Max", "Min", "Mod", "FloorDiv", "PythonMod", "CeilDiv")
)
_CONTAINERS = frozenset(("builtins.tuple", "builtins.list", "builtins.dict", "collections.OrderedDict", None))
_ALSO_HARMLESS = frozenset(f"torch.ops.higher_order.{name}" for name in GRADIENT_SWITCHES)
"""Beside the operators of the tables: blocks that only say whether gradients are taken, or in which width."""
_ZEROS = {
    "torch.ops.aten.empty.memory_format": ("torch.ops.aten.zeros.default", ("memory_format",)),
    "torch.ops.aten.empty_permuted.default": ("torch.ops.aten.zeros.default", ("physical_layout",)),
    "torch.ops.aten.empty_like.default": ("torch.ops.aten.zeros_like.default", ()),
    "torch.ops.aten.new_empty.default": ("torch.ops.aten.new_zeros.default", ()),
}
"""Operators whose result is whatever lay in memory: what stands for them, and the arguments that it does not take."""


_KEYWORD = 2
"""The schema's number for an argument that is given by its name."""


def harmless_module(archive: ProgramArchive, evaluated: bool = False) -> dict[str, Any]:
    """The graph, signature and calls of a program in evaluation mode, of known operators alone. evaluated: the
    framework will evaluate its sizes as code. Raises SourceError or UnknownOperators where the program is not plain."""
    module = archive.document["graph_module"]
    try:
        _inspect(archive.document, archive)
        if evaluated:
            _inspect_sizes(module["graph"], archive)
        return {
            "graph": _plain_graph(module["graph"]),
            "signature": module["signature"],
            "module_call_graph": [
                _with_plain_outputs(entry) for entry in module["module_call_graph"] if not entry["fqn"]
            ],
            "metadata": {},
            "treespec_namedtuple_fields": {},
        }
    except (KeyError, TypeError, ValueError, IndexError, AttributeError, RecursionError) as fault:
        raise SourceError(
            f"{archive.path} is damaged: its graph does not follow the schema ({type(fault).__name__}: {fault})."
        ) from fault


def write_harmless_copy(archive: ProgramArchive, file: BinaryIO) -> None:
    """Writes the copy to an open binary file. Raises SourceError or UnknownOperators where the program is not plain."""
    document = archive.document
    copied = {
        "graph_module": harmless_module(archive, evaluated=True),
        **{key: document[key] for key in ("opset_version", "range_constraints", "schema_version")},
        "verifiers": document.get("verifiers", []),
        "torch_version": document.get("torch_version", ""),
        "guards_code": [],
    }
    root = "program"
    with zip_faults(archive.path, "a program", SourceError), zipfile.ZipFile(file, "w", zipfile.ZIP_STORED) as copy:
        copy.writestr(f"{root}/models/model.json", json.dumps(copied))
        copy.writestr(f"{root}/data/sample_inputs/model.pt", b"")
        for group in ("weights", "constants"):
            tensors = archive.stored_tensors(group)  # Refuses whatever is not a plain tensor.
            members = {
                member: f"{group}_{position}"
                for position, member in enumerate(dict.fromkeys(stored.member for stored in tensors.values()))
            }
            config = {name: _entry(stored, members[stored.member]) for name, stored in tensors.items()}
            copy.writestr(f"{root}/data/{group}/model_{group}_config.json", json.dumps({"config": config}))
            for member, name in members.items():
                with copy.open(f"{root}/data/{group}/{name}", "w", force_zip64=True) as target:
                    target.write(memoryview(archive.member_bytes(member)))
        for member, content in (
            ("archive_format", "pt2"),
            ("archive_version", "0"),
            ("byteorder", "little"),
            (".data/version", "3\n"),
        ):
            copy.writestr(f"{root}/{member}", content)


def _with_plain_outputs(entry: dict[str, Any]) -> dict[str, Any]:
    """A call whose outputs are returned in tuples where they were in records of a library, which need not be installed
    here: the order of the tensors stays."""
    signature = entry.get("signature") or {}
    if not signature.get("out_spec"):
        return entry
    return {**entry, "signature": {**signature, "out_spec": json.dumps(_in_tuples(json.loads(signature["out_spec"])))}}


def _in_tuples(spec: Any) -> Any:
    if isinstance(spec, list):
        return [_in_tuples(each) for each in spec]
    if not isinstance(spec, dict):
        return spec
    children = _in_tuples(spec.get("children_spec", []))
    if spec.get("type") in _CONTAINERS:
        return {**spec, "children_spec": children}
    return {"type": "builtins.tuple", "context": "null", "children_spec": children}


def _entry(stored: StoredTensor, member: str) -> dict[str, Any]:
    """Where a tensor lies, in the framework's form."""
    sizes, strides = ([{"as_int": size} for size in sizes] for sizes in (stored.sizes, stored.strides))
    meta = {
        "dtype": stored.scalar_type,
        "sizes": sizes,
        "strides": strides,
        "storage_offset": {"as_int": stored.offset},
        "requires_grad": stored.requires_grad,
        "device": {"type": "cpu", "index": None},
        "layout": STRIDED,
    }
    return {"path_name": member, "is_param": stored.trained, "use_pickle": False, "tensor_meta": meta}


def _plain_graph(graph: dict[str, Any]) -> dict[str, Any]:
    """The graph in evaluation mode, without what people read only, and with zeros for memory that nobody wrote."""
    return {**graph, "nodes": [_plain_node(node) for node in graph["nodes"]]}


def _plain_node(node: dict[str, Any]) -> dict[str, Any]:
    target, dropped = _ZEROS.get(node["target"], (node["target"], ()))
    inputs, switch = [], evaluation_argument(node["target"], _given(node))
    for given in node["inputs"]:
        if given["name"] in dropped:
            continue
        if switch and given["name"] == switch[0]:
            given, switch = {**given, "arg": _as_argument(switch[1])}, None
        if "as_graph" in given["arg"]:
            inner = given["arg"]["as_graph"]
            given = {**given, "arg": {"as_graph": {**inner, "graph": _plain_graph(inner["graph"])}}}
        inputs.append(given)
    if switch:
        # It was left out, and its default is training mode.
        inputs.append({"name": switch[0], "arg": _as_argument(switch[1]), "kind": _KEYWORD})
    return {**node, "target": target, "inputs": inputs, "metadata": {}}


def _as_argument(value: bool | float) -> dict[str, Any]:
    return {"as_bool" if isinstance(value, bool) else "as_float": value}


def _graphs(graph: dict[str, Any]) -> Iterator[dict[str, Any]]:
    """The graph and those of the blocks inside it."""
    yield graph
    for node in graph["nodes"]:
        for given in node["inputs"]:
            if "as_graph" in given["arg"]:
                yield from _graphs(given["arg"]["as_graph"]["graph"])


def _inspect(document: dict[str, Any], archive: ProgramArchive) -> None:
    module = document["graph_module"]
    unknown: dict[str, list[str]] = {}
    for graph in _graphs(module["graph"]):
        for node in graph["nodes"]:
            if not (known_operator(node["target"]) or node["target"] in _ALSO_HARMLESS):
                unknown.setdefault(node["target"].removeprefix("torch.ops."), []).append(node.get("name") or "?")
    if unknown:
        # What is not known may do anything: open files, start programs.
        raise UnknownOperators(f"the framework is not started: {archive.path}", unknown)
    drawing = [
        node["name"] or "?" for graph in _graphs(module["graph"]) for node in graph["nodes"] if _is_training_only(node)
    ]
    if drawing:
        raise SourceError(
            f"{archive.path} was captured in training mode and cannot be evaluated as it is: it draws random numbers, "
            f"or normalises by the batch ({some_of(drawing)}); capture the model after module.eval()."
        )
    for entry in module["module_call_graph"]:
        for key in ("in_spec", "out_spec"):
            spec = (entry.get("signature") or {}).get(key)
            parsed = parse_json(spec, f"{key} of {archive.path}", SourceError, list) if spec else []
            for kind in _container_types(parsed):
                if kind not in _CONTAINERS and key == "in_spec":
                    raise SourceError(
                        f"{archive.path} takes or returns a {shown(kind)}; use tuples, lists and dictionaries."
                    )


def _is_training_only(node: dict[str, Any]) -> bool:
    """Whether a call has no evaluation mode."""
    operator = operator_of(node["target"])
    return operator in ALWAYS_TRAINING or operator in RANDOM


def _given(node: dict[str, Any]) -> dict[str, Any]:
    """A call's arguments as plain values; those that are None are left out."""
    given = {}
    for each in node["inputs"]:
        ((kind, value),) = each["arg"].items()
        if kind != "as_none":
            given[each["name"]] = value
    return given


def _inspect_sizes(value: Any, archive: ProgramArchive) -> None:
    """Every "expr_str" must be plain arithmetic; looks through everything below."""
    if isinstance(value, list):
        for each in value:
            _inspect_sizes(each, archive)
    elif isinstance(value, dict):
        for key, each in value.items():
            if key == "expr_str" and not _is_plain_size(each):
                raise SourceError(f"{archive.path} has the size {shown(each)}, which is not plain arithmetic.")
            _inspect_sizes(each, archive)


def _is_plain_size(text: str) -> bool:
    if len(text) > 2000:
        return False
    try:
        nodes = list(ast.walk(ast.parse(text, mode="eval")))
    except (SyntaxError, RecursionError, MemoryError, ValueError):
        return False
    plain = (ast.Expression, ast.Call, ast.Name, ast.Load, ast.Constant, ast.keyword, ast.UnaryOp, ast.USub)
    for node in nodes:
        if not isinstance(node, plain):
            return False
        if isinstance(node, ast.Name) and node.id not in _SIZE_FUNCTIONS:
            return False
        if isinstance(node, ast.Constant) and isinstance(node.value, str) and not _SYMBOL.fullmatch(node.value):
            return False
        if isinstance(node, ast.Constant) and isinstance(node.value, int) and abs(node.value) > 2**63:
            return False
    return True


_SYMBOL = re.compile(r"[A-Za-z_][A-Za-z0-9_]*")


def _container_types(spec: Any):
    """All container types that a serialised tree of arguments names."""
    if isinstance(spec, list):
        for each in spec:
            yield from _container_types(each)
    elif isinstance(spec, dict):
        if "type" in spec:
            yield spec["type"]
        for each in spec.values():
            yield from _container_types(each)
