"""A captured program run by PyTorch call by call: for releases that cannot load it as a program.

Each call is an operator of the framework, looked up by its name after the program was found to consist of known
operators alone; nothing of the file is unpickled, evaluated or loaded.
"""

from __future__ import annotations

import math
import operator
from collections.abc import Callable, Mapping
from typing import Any

from zygal.errors import EngineError, first_line
from zygal.sources.pytorch import ProgramArchive
from zygal.sources.pytorch.harmless import harmless_module
from zygal.sources.pytorch.live import as_tensor
from zygal.sources.pytorch.program import GRADIENT_SWITCHES, Program
from zygal.sources.pytorch.tensors import SCALAR_TYPES

_MODULES = {"_operator": operator, "math": math}
_MEMORY_FORMATS = {1: "contiguous_format", 2: "channels_last", 3: "channels_last_3d", 4: "preserve_format"}
"""By the schema's numbers."""
_ASSERTIONS = ("_assert", "sym_constrain_range")
"""Operators that compute nothing and only check what was true at capture."""


class CalledProgram:
    """A captured program as a function of images. Raises EngineError where this release lacks an operator."""

    def __init__(self, torch: Any, archive: ProgramArchive, program: Program):
        self._torch, self._where = torch, str(archive.path)
        module = harmless_module(archive)
        self._graph = module["graph"]
        self._returned = [self._output(spec) for spec in module["signature"]["output_specs"]]
        (self._images,) = program.inputs[:1]
        storages: dict[str, Any] = {}
        self._stored = {}
        for name, stored in program.tensors.items():
            if stored.member not in storages:
                storages[stored.member] = archive.member_bytes(stored.member).copy()
            self._stored[name] = as_tensor(torch, storages[stored.member], stored)
        self._check(self._graph)

    def eval(self) -> CalledProgram:
        """Itself: it is in evaluation mode."""
        return self

    def __call__(self, images: Any, keep: Callable[[str, Any], None] = lambda name, value: None) -> list[Any]:
        """What the program returns, in its order. keep: is told each tensor that a call makes, by its name."""
        # A program may write into its buffers.
        values = {name: value.clone() for name, value in self._stored.items()}
        values[self._images] = images
        self._run(self._graph, values, keep)
        return [values[name] if name is not None else 0 for name in self._returned]

    @staticmethod
    def _output(spec: Mapping[str, Any]) -> str | None:
        ((kind, body),) = spec.items()
        return body["arg"]["as_tensor"]["name"] if kind == "user_output" and "as_tensor" in body["arg"] else None

    def _check(self, graph: Mapping[str, Any]) -> None:
        """Raises EngineError for the first operator that this release does not have."""
        for node in graph["nodes"]:
            block = self._block(node)
            if block is not None:
                self._check(block)
            else:
                self._function(node["target"])

    @staticmethod
    def _block(node: Mapping[str, Any]) -> Mapping[str, Any] | None:
        if node["target"].rpartition(".")[2] not in GRADIENT_SWITCHES:
            return None
        return next(each["arg"]["as_graph"]["graph"] for each in node["inputs"] if "as_graph" in each["arg"])

    def _function(self, target: str) -> Callable[..., Any]:
        first, _, rest = target.partition(".")
        found = _MODULES.get(first, self._torch if first == "torch" else None)
        for part in rest.split("."):
            found = getattr(found, part, None)
        if found is None:
            name = target.removeprefix("torch.ops.")
            raise EngineError(
                f"{self._where} calls {name}, which PyTorch {self._torch.__version__} does not have; run it where the "
                "release is that captured it, or a newer one."
            )
        return found

    def _run(self, graph: Mapping[str, Any], values: dict[str, Any], keep: Callable[[str, Any], None]) -> None:
        for node in graph["nodes"]:
            block = self._block(node)
            if block is not None:
                results = self._run_block(node, block, values, keep)
            elif node["target"].removeprefix("torch.").removeprefix("ops.aten.").startswith(_ASSERTIONS):
                continue
            else:
                results = self._call(node, values)
            names = self._names(node)
            many = len(names) > 1 or "as_tensors" in (node["outputs"] or [{}])[0]
            for name, value in zip(names, results if many else [results]):
                if name is not None:
                    values[name] = value
                    keep(name, value)

    def _call(self, node: Mapping[str, Any], values: Mapping[str, Any]) -> Any:
        function = self._function(node["target"])
        given = [(each["name"], self._value(each["arg"], values)) for each in node["inputs"]]
        try:
            if node["target"].startswith("torch.ops."):
                # The first releases take no argument called self by its name.
                first = [given.pop(0)[1]] if given and given[0][0] == "self" else []
                return function(*first, **dict(given))
            return function(*(value for _, value in given))
        except Exception as fault:
            raise EngineError(
                f"{self._where} cannot be run by PyTorch {self._torch.__version__}: {node['target']} fails "
                f"({first_line(fault)})."
            ) from fault

    def _run_block(self, node, block: Mapping[str, Any], values: dict[str, Any], keep) -> Any:
        given = [values[each["arg"]["as_tensor"]["name"]] for each in node["inputs"] if "as_tensor" in each["arg"]]
        taken = [each["as_tensor"]["name"] for each in block["inputs"] if "as_tensor" in each]
        inner = dict(zip(taken, given, strict=True))
        self._run(block, inner, lambda name, value: None)
        results = [inner[each["as_tensor"]["name"]] for each in block["outputs"]]
        return results if len(self._names(node)) > 1 or "as_tensors" in node["outputs"][0] else results[0]

    @staticmethod
    def _names(node: Mapping[str, Any]) -> list[str | None]:
        names: list[str | None] = []
        for output in node["outputs"]:
            ((kind, value),) = output.items()
            for each in value if kind == "as_tensors" else [value]:
                names.append((each.get("name") or each.get("as_name")) if isinstance(each, dict) else None)
        return names

    def _value(self, argument: Mapping[str, Any], values: Mapping[str, Any]) -> Any:
        """An argument as the framework takes it. Raises EngineError for a kind that is not known."""
        ((kind, value),) = argument.items()
        if kind in ("as_int", "as_ints", "as_float", "as_floats", "as_bool", "as_bools", "as_string"):
            return value
        if kind in ("as_sym_int", "as_sym_float", "as_sym_bool"):
            return self._number(value, values)
        if kind == "as_sym_ints":
            return [self._number(each, values) for each in value]
        if kind == "as_none":
            return None
        if kind == "as_tensor":
            return values[value["name"]]
        if kind == "as_tensors":
            return [values[each["name"]] for each in value]
        if kind in ("as_optional_tensors", "as_optional_tensor"):
            listed = value if isinstance(value, list) else [value]
            found = [values[each["as_tensor"]["name"]] if "as_tensor" in each else None for each in listed]
            return found if isinstance(value, list) else found[0]
        if kind == "as_scalar_type" and value in SCALAR_TYPES:
            return getattr(self._torch, SCALAR_TYPES[value])
        if kind == "as_memory_format" and value in _MEMORY_FORMATS:
            return getattr(self._torch, _MEMORY_FORMATS[value])
        if kind == "as_layout":
            return self._torch.strided
        if kind == "as_device":
            return self._torch.device("cpu")
        raise EngineError(f"{self._where} has an argument of the kind {kind}, which cannot be run call by call.")

    @staticmethod
    def _number(value: Mapping[str, Any], values: Mapping[str, Any]) -> Any:
        return values[value["as_name"]] if "as_name" in value else next(iter(value.values()))
