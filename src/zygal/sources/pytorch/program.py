"""A captured program as plain data, validated while it is read."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from zygal.errors import SourceError
from zygal.graph import TensorType
from zygal.sources.pytorch.archive import ProgramArchive
from zygal.sources.pytorch.memory_layout import Layout
from zygal.sources.pytorch.returned import names_of_returned, returned_tensors
from zygal.sources.pytorch.symbols import SymbolicSize, parse_size, symbol_of
from zygal.sources.pytorch.tensors import COMPUTED_AS_FLOAT32, SCALAR_TYPES, StoredTensor


@dataclass(frozen=True)
class Call:
    """One operator call. `arguments` maps names to (kind, value) as recorded, kind being "tensor", "ints", ..."""

    target: str
    arguments: dict[str, tuple[str, Any]]
    results: tuple[str, ...]
    layer: str

    def tensors_read(self) -> list[str]:
        """The names of all tensors among the arguments, in their order."""
        names = []
        for kind, value in self.arguments.values():
            if kind == "tensor":
                names.append(value["name"])
            elif kind == "tensors":
                names.extend(each["name"] for each in value)
            elif kind == "optional_tensors":
                names.extend(each["as_tensor"]["name"] for each in value if "as_tensor" in each)
        return names

    def names_read(self) -> set[str]:
        """The names of everything among the arguments that another call or an input made, sizes included."""
        names, open_values = set(self.tensors_read()), [value for _, value in self.arguments.values()]
        while open_values:
            value = open_values.pop()
            if isinstance(value, list):
                open_values.extend(value)
            elif isinstance(value, dict) and isinstance(value.get("as_name"), str):
                names.add(value["as_name"])
        return names


@dataclass(frozen=True)
class Program:
    """What the archive says: inputs and outputs, calls in order, and the recorded type of each tensor.

    `outputs` are the values that it returns, `output_names` what a person calls them: by the keys where the model
    returns a dictionary; `output_places` where they stand among all that it returns. `batch` is the symbol of a dynamic
    batch, or None. `types` leaves out tensors whose sizes are no multiples of the batch. `tensors` are the weights and
    buffers, of which `trained` are the parameters that training changed.
    """

    path: Path
    inputs: tuple[str, ...]
    outputs: tuple[str, ...]
    output_names: tuple[str, ...]
    output_places: tuple[int, ...]
    batch: str | None
    tensors: dict[str, StoredTensor]
    trained: frozenset[str]
    calls: tuple[Call, ...]
    types: dict[str, TensorType]
    layouts: dict[str, Layout]
    dtype_names: dict[str, str]
    framework_version: str
    schema_version: str


def read_program(archive: ProgramArchive) -> Program:
    """Parses and validates the graph. Raises SourceError where it does not follow its schema."""
    document, path = archive.document, archive.path
    try:
        graph = document["graph_module"]["graph"]
        signature = document["graph_module"]["signature"]
        stored = {group: archive.stored_tensors(group) for group in ("weights", "constants")}
        inputs, tensors, trained = _inputs(path, signature["input_specs"], stored)
        batch = _batch_symbol(path, [graph["tensor_values"][name] for name in inputs])
        types, dtype_names = _types(graph["tensor_values"], batch)
        unknown = [name for name in inputs if dtype_names.get(name) == "unknown"]
        if unknown:
            raise SourceError(
                f"{path} takes {unknown[0]} in a dtype that is not supported; capture the model with float32 images."
            )
        version = document["schema_version"]
        outputs = returned_tensors(path, signature["output_specs"])
        return Program(
            path=path,
            inputs=inputs,
            outputs=tuple(outputs.values()),
            output_names=names_of_returned(document["graph_module"], outputs),
            output_places=tuple(outputs),
            batch=batch,
            tensors=tensors,
            trained=trained,
            calls=tuple(calls_of(graph["nodes"])),
            types=types,
            layouts=_layouts(graph["tensor_values"]),
            dtype_names=dtype_names,
            framework_version=archive.release,
            schema_version=f"{version['major']}.{version.get('minor', 0)}",
        )
    except (KeyError, TypeError, ValueError, IndexError, AttributeError) as fault:
        raise SourceError(
            f"{path} is damaged or made by a release of PyTorch that Zygal does not know: "
            f"its graph does not follow the schema ({type(fault).__name__}: {fault}); capture the model again."
        ) from fault


def _inputs(path: Path, specs: list[dict], stored: dict[str, dict[str, StoredTensor]]):
    everything = {**stored["constants"], **stored["weights"]}
    inputs, tensors, trained = [], {}, set()
    for spec in specs:
        ((kind, body),) = spec.items()
        if kind == "user_input":
            if "as_tensor" in body["arg"]:
                inputs.append(body["arg"]["as_tensor"]["name"])
        elif kind in ("parameter", "buffer", "tensor_constant"):
            name_in_code = body[f"{kind}_name"]
            if name_in_code not in everything:
                raise SourceError(f"{path} is damaged: the tensor {name_in_code} is missing from it.")
            tensors[body["arg"]["name"]] = everything[name_in_code]
            if kind == "parameter":
                trained.add(body["arg"]["name"])
        elif kind not in ("constant_input", "token"):
            raise SourceError(f"{path} takes a Python object ({kind}) that cannot become part of an artifact.")
    return tuple(inputs), tensors, frozenset(trained)


def _batch_symbol(path: Path, inputs: list[dict]) -> str | None:
    """The symbol of the first axis of the inputs; no other axis may be dynamic."""
    symbols = set()
    for meta in inputs:
        for axis, size in enumerate(meta["sizes"]):
            symbol = symbol_of(size)
            if symbol is not None and axis:
                raise SourceError(
                    f"{path} was captured with a dynamic size on axis {axis} of its input; "
                    "capture it again with the image size fixed and only the batch (axis 0) dynamic."
                )
            symbols.add(symbol)
    symbols.discard(None)
    return symbols.pop() if symbols else None


def _types(values: dict[str, dict], batch: str | None) -> tuple[dict[str, TensorType], dict[str, str]]:
    """Recorded types as the artifact computes them (floating point as float32), and the recorded dtypes."""
    types, names = {}, {}
    for name, meta in values.items():
        recorded = names[name] = SCALAR_TYPES.get(meta["dtype"], "unknown")
        if recorded == "unknown":
            continue
        dtype = np.dtype("float32" if recorded in COMPUTED_AS_FLOAT32 else recorded)
        try:
            types[name] = TensorType(dtype, tuple(parse_size(size, batch) for size in meta["sizes"]))
        except SymbolicSize:
            continue
    return types, names


def _layouts(values: dict[str, dict]) -> dict[str, Layout]:
    """Layouts with the batch that the capture was made with; those that are not known are left out."""
    layouts = {}
    for name, meta in values.items():
        numbers = [[_at_capture(entry) for entry in meta[key]] for key in ("sizes", "strides")]
        if None not in numbers[0] + numbers[1]:
            layouts[name] = Layout(*map(tuple, numbers), _at_capture(meta["storage_offset"]))
    return layouts


def _at_capture(entry: dict) -> int | None:
    if "as_int" in entry:
        return int(entry["as_int"])
    hint = entry["as_expr"].get("hint") or {}
    return int(hint["as_int"]) if "as_int" in hint else None


GRADIENT_SWITCHES = ("wrap_with_set_grad_enabled", "wrap_with_autocast")
"""Blocks that only say whether gradients are taken, or in which width. They are computed like everything else."""


def calls_of(nodes: list[dict], names: dict[str, str] | None = None, prefix: str = "") -> Iterator[Call]:
    """All calls in order, blocks spelt out. `names` maps what a block calls its inputs to what they are."""
    names = {} if names is None else names
    for node in nodes:
        call = _call(node)
        if call.target.rpartition(".")[2] not in GRADIENT_SWITCHES:
            yield _renamed(call, names, prefix)
            continue
        body = next(value["graph"] for kind, value in call.arguments.values() if kind == "graph")
        given = [
            names.get(value["name"], prefix + value["name"])
            for kind, value in call.arguments.values()
            if kind == "tensor"
        ]
        inner = f"{prefix}{call.results[0]}/"
        taken = [each["as_tensor"]["name"] for each in body["inputs"] if "as_tensor" in each]
        yield from calls_of(body["nodes"], dict(zip(taken, given, strict=True)), inner)
        made = [each["as_tensor"]["name"] for each in body["outputs"]]
        for result, name in zip(call.results, made, strict=False):
            arguments = {"self": ("tensor", {"name": inner + name})}
            yield Call("torch.ops.aten.alias.default", arguments, (prefix + result,), call.layer)


def _renamed(call: Call, names: dict[str, str], prefix: str) -> Call:
    """A call of a block, with names that are the block's own made distinct."""
    if not prefix:
        return call

    def renamed(value: Any) -> Any:
        if isinstance(value, list):
            return [renamed(each) for each in value]
        if isinstance(value, dict):
            return {
                key: names.get(each, prefix + each) if key in ("name", "as_name") else renamed(each)
                for key, each in value.items()
            }
        return value

    arguments = {name: (kind, renamed(value)) for name, (kind, value) in call.arguments.items()}
    return Call(call.target, arguments, tuple(prefix + name for name in call.results), call.layer)


def _call(node: dict) -> Call:
    arguments = {}
    for index, given in enumerate(node["inputs"]):
        ((kind, value),) = given["arg"].items()
        arguments[given["name"] or str(index)] = (kind.removeprefix("as_"), value)
    results = []
    for output in node["outputs"]:
        ((kind, value),) = output.items()
        for each in value if kind == "as_tensors" else [value]:
            results.append(each.get("name") or each.get("as_name") if isinstance(each, dict) else str(each))
    return Call(node["target"], arguments, tuple(results), _layer(node))


def _layer(node: dict) -> str:
    """The innermost module of the training code, as a path; for what the model does itself, the call's name."""
    stack = (node.get("metadata") or {}).get("nn_module_stack", "")
    path = stack.rpartition(";")[2].split(",")[1] if stack.count(",") >= 2 else ""
    return path or node.get("name") or node["target"]
