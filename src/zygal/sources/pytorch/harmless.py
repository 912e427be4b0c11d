"""A copy of a captured program that is safe to hand to the framework's own loader.

That loader unpickles example inputs and stored objects, evaluates size expressions and guards as
Python code, resolves operator names to arbitrary functions, and writes names into generated code.
A copy leaves out what running the program does not need, and is refused unless the rest is plain:
names that are names, operators of the ATen library, sizes made of numbers, symbols and arithmetic.
"""

from __future__ import annotations

import ast
import json
import re
import zipfile
from collections.abc import Iterator
from typing import Any, BinaryIO

from zygal.errors import SourceError
from zygal.sources.pytorch.archive import ProgramArchive

_NAME = re.compile(r"[A-Za-z_][A-Za-z0-9_]*")
_TARGET = re.compile(r"torch\.ops\.aten\.[a-z0-9_]+\.[A-Za-z0-9_]+|_operator\.[a-z_]+|math\.(trunc|floor|ceil)"
                     r"|torch\.sym_[a-z]+|torch\.ops\.higher_order\.wrap_with_(set_grad_enabled|autocast)")  # fmt: skip
_SIZE_FUNCTIONS = frozenset((
    "Symbol", "Integer", "Mul", "Add", "Pow", "Max", "Min", "Mod", "FloorDiv", "PythonMod", "CeilDiv", "Rational",
))  # fmt: skip
_CONTAINERS = frozenset(("builtins.tuple", "builtins.list", "builtins.dict", "collections.OrderedDict", None))


def write_harmless_copy(archive: ProgramArchive, file: BinaryIO) -> None:
    """Writes the copy to an open binary file. Raises SourceError where the program is not plain."""
    document = json.loads(json.dumps(archive.document))
    try:
        _purge(document)
        _inspect(document, archive)
    except (KeyError, TypeError, ValueError, IndexError, AttributeError, RecursionError) as fault:
        raise SourceError(
            f"{archive.path} is damaged: its graph does not follow the schema ({type(fault).__name__}: {fault})."
        ) from fault
    root, name = archive.root, archive.model_name
    with zipfile.ZipFile(file, "w", zipfile.ZIP_STORED) as copy:
        copy.writestr(f"{root}/models/{name}.json", json.dumps(document))
        copy.writestr(f"{root}/data/sample_inputs/{name}.pt", b"")
        for group in ("weights", "constants"):
            tensors = archive.stored_tensors(group)  # Refuses whatever is not a plain tensor.
            config = f"{root}/data/{group}/{name}_{group}_config.json"
            copy.writestr(config, json.dumps(archive.read_json(config)) if tensors else '{"config": {}}')
            for member in dict.fromkeys(stored.member for stored in tensors.values()):
                with copy.open(member, "w", force_zip64=True) as target:
                    target.write(memoryview(archive.member_bytes(member)))
        for member, content in (("archive_format", "pt2"), ("archive_version", "0"), ("byteorder", "little"),
                                (".data/version", "3\n")):  # fmt: skip
            copy.writestr(f"{root}/{member}", content)


def _purge(document: dict[str, Any]) -> None:
    """Takes out what is evaluated or unpickled and is not needed."""
    document["guards_code"] = []
    module = document["graph_module"]
    module["module_call_graph"] = [entry for entry in module["module_call_graph"] if not entry["fqn"]]
    module["metadata"] = {}
    for graph in _graphs(module["graph"]):
        for node in graph["nodes"]:
            node["metadata"] = {}


def _graphs(graph: dict[str, Any]) -> Iterator[dict[str, Any]]:
    """The graph and those of the blocks inside it."""
    yield graph
    for node in graph["nodes"]:
        for given in node["inputs"]:
            if "as_graph" in given["arg"]:
                yield from _graphs(given["arg"]["as_graph"]["graph"])


def _inspect(document: dict[str, Any], archive: ProgramArchive) -> None:
    module = document["graph_module"]
    if module["graph"].get("custom_obj_values"):
        raise SourceError(f"{archive.path} holds Python objects, which are never loaded.")
    for node in [node for graph in _graphs(module["graph"]) for node in graph["nodes"]]:
        if not _TARGET.fullmatch(node["target"]):
            raise SourceError(
                f"{archive.path} calls {node['target']}, which is not an operator of PyTorch's ATen library; "
                "the framework is not started on it."
            )
    for entry in module["module_call_graph"]:
        for key in ("in_spec", "out_spec"):
            spec = (entry.get("signature") or {}).get(key)
            for kind in _container_types(json.loads(spec)) if spec else ():
                if kind not in _CONTAINERS:
                    raise SourceError(f"{archive.path} takes or returns a {kind}; use tuples, lists and dictionaries.")
    _inspect_names_and_sizes(module["graph"], archive)
    _inspect_names_and_sizes(module["signature"], archive)


def _inspect_names_and_sizes(value: Any, archive: ProgramArchive) -> None:
    """Every "name" must be an identifier, every "expr_str" plain arithmetic; looks through everything below."""
    if isinstance(value, list):
        for each in value:
            _inspect_names_and_sizes(each, archive)
    elif isinstance(value, dict):
        for key, each in value.items():
            if key in ("name", "as_name") and isinstance(each, str) and not _NAME.fullmatch(each):
                raise SourceError(f"{archive.path} is damaged: {each[:60]!r} is not a name.")
            if key == "expr_str" and not _is_plain_size(each):
                raise SourceError(f"{archive.path} has the size {each[:60]!r}, which is more than arithmetic.")
            _inspect_names_and_sizes(each, archive)


def _is_plain_size(text: str) -> bool:
    if len(text) > 2000:
        return False
    try:
        nodes = list(ast.walk(ast.parse(text, mode="eval")))
    except (SyntaxError, RecursionError, MemoryError):
        return False
    plain = (ast.Expression, ast.Call, ast.Name, ast.Load, ast.Constant, ast.keyword, ast.UnaryOp, ast.USub)
    for node in nodes:
        if not isinstance(node, plain):
            return False
        if isinstance(node, ast.Name) and node.id not in _SIZE_FUNCTIONS:
            return False
        if isinstance(node, ast.Constant) and isinstance(node.value, str) and not _NAME.fullmatch(node.value):
            return False
    return True


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
