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
from zygal.sources.pytorch.archive import STRIDED
from zygal.sources.pytorch.calls import HANDLERS
from zygal.sources.pytorch.harmless import harmless_module
from zygal.sources.pytorch.live import as_tensor
from zygal.sources.pytorch.program import Call, Program, calls_of
from zygal.sources.pytorch.table_creation import check_only
from zygal.sources.pytorch.tensors import SCALAR_TYPES
from zygal.sources.pytorch.translate import operator_name

_MODULES = {"_operator": operator, "math": math}
_MEMORY_FORMATS = {1: "contiguous_format", 2: "channels_last", 3: "channels_last_3d", 4: "preserve_format"}
"""By the schema's numbers."""


class CalledProgram:
    """A captured program as a function of images. Raises EngineError where this release lacks an operator."""

    def __init__(self, torch: Any, archive: ProgramArchive, program: Program):
        self._torch, self._where = torch, str(archive.path)
        module = harmless_module(archive)
        # Assertions compute nothing, and what is only read by them is known to hold.
        self._calls = [
            call
            for call in calls_of(module["graph"]["nodes"])
            if HANDLERS.get(operator_name(call.target)[0]) is not check_only
        ]
        self._functions = {call.target: self._function(call.target) for call in self._calls}
        self._returned = [self._output(spec) for spec in module["signature"]["output_specs"]]
        (self._images,) = program.inputs[:1]
        storages: dict[str, Any] = {}
        self._stored = {}
        for name, stored in program.tensors.items():
            if stored.member not in storages:
                storages[stored.member] = archive.member_bytes(stored.member).copy()
            self._stored[name] = as_tensor(torch, storages[stored.member], stored)
        self._trained = program.trained

    def eval(self) -> CalledProgram:
        """Itself: it is in evaluation mode."""
        return self

    def __call__(self, images: Any, keep: Callable[[str, Any], None] = lambda name, value: None) -> list[Any]:
        """What the program returns, in its order. keep: is told each tensor that a call makes, by its name. Raises
        EngineError."""
        # A program may write into its buffers. To copy the weights each time would take longer than to use them.
        values = {name: each if name in self._trained else each.clone() for name, each in self._stored.items()}
        values[self._images] = images
        before = {name: values[name]._version for name in self._trained}
        for call in self._calls:
            for name, value in self._results(call, values).items():
                values[name] = value
                keep(name, value)
        if any(values[name]._version != version for name, version in before.items()):
            raise EngineError(f"{self._where} writes into its weights, so that each run gives other scores.")
        return [values[name] if name is not None else 0 for name in self._returned]

    @staticmethod
    def _output(spec: Mapping[str, Any]) -> str | None:
        ((kind, body),) = spec.items()
        return body["arg"]["as_tensor"]["name"] if kind == "user_output" and "as_tensor" in body["arg"] else None

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

    def _results(self, call: Call, values: Mapping[str, Any]) -> dict[str, Any]:
        """What a call gives, by the names of its results. Raises EngineError."""
        function = self._functions[call.target]
        try:
            given = {name: self._value(kind, value, values) for name, (kind, value) in call.arguments.items()}
            if call.target.startswith("torch.ops."):
                # The first releases take no argument called self by its name.
                first = [given.pop("self")] if next(iter(given), None) == "self" else []
                made = function(*first, **given)
            else:
                made = function(*given.values())
        except EngineError:
            raise
        except Exception as fault:
            raise EngineError(
                f"{self._where} cannot be run by PyTorch {self._torch.__version__}: {call.target} fails "
                f"({first_line(fault)})."
            ) from fault
        results = list(made) if isinstance(made, (list, tuple)) else [made]
        # Release 2.2 names not all results. Which ones is not known but for the first, so that no other can be read.
        names = call.results if len(results) == len(call.results) else call.results[:1]
        return dict(zip(names, results))

    def _value(self, kind: str, value: Any, values: Mapping[str, Any]) -> Any:
        """An argument as the framework takes it. Raises EngineError for a kind that is not known."""
        if kind in ("int", "ints", "float", "floats", "bool", "bools", "string"):
            return value
        if kind in ("sym_int", "sym_float", "sym_bool"):
            return self._number(value, values)
        if kind == "sym_ints":
            return [self._number(each, values) for each in value]
        if kind == "none":
            return None
        if kind == "tensor":
            return values[value["name"]]
        if kind == "tensors":
            return [values[each["name"]] for each in value]
        if kind in ("optional_tensors", "optional_tensor"):
            listed = value if isinstance(value, list) else [value]
            found = [values[each["as_tensor"]["name"]] if "as_tensor" in each else None for each in listed]
            return found if isinstance(value, list) else found[0]
        if kind == "scalar_type" and value in SCALAR_TYPES:
            return getattr(self._torch, SCALAR_TYPES[value])
        if kind == "memory_format" and value in _MEMORY_FORMATS:
            return getattr(self._torch, _MEMORY_FORMATS[value])
        if kind == "layout" and value == STRIDED:
            return self._torch.strided
        if kind == "device":
            return self._torch.device("cpu")
        raise EngineError(f"{self._where} has an argument of the kind {kind}, which cannot be run call by call.")

    @staticmethod
    def _number(value: Mapping[str, Any], values: Mapping[str, Any]) -> Any:
        return values[value["as_name"]] if "as_name" in value else next(iter(value.values()))
