"""What the operator table sees of one call: its arguments in graph terms, and ways to add nodes."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, NoReturn

import numpy as np

from zygal.errors import SourceError
from zygal.graph import Batch, Dimension, GraphBuilder, TensorType
from zygal.graph.shapes import shape_text
from zygal.sources.pytorch.program import Call

Handler = Callable[["Site"], str | tuple[str, ...] | Dimension]

HANDLERS: dict[str, Handler] = {}
"""The operators that can be translated, by the framework's name without its prefix (conv2d.default)."""


def aten(*names: str) -> Callable[[Handler], Handler]:
    """Enters a function into the table under ATen names."""

    def enter(handler: Handler) -> Handler:
        HANDLERS.update({f"aten.{name}": handler for name in names})
        return handler

    return enter


class Site:
    """One call while it is translated. Argument readers raise SourceError, naming the layer."""

    def __init__(self, call: Call, builder: GraphBuilder, values: dict[str, str | Dimension], where: str):
        self.call = call
        self._builder = builder
        self._values = values
        self._where = where

    def refuse(self, why: str) -> NoReturn:
        """Ends the conversion: this call cannot be expressed."""
        operator = self.call.target.removeprefix("torch.ops.")
        raise SourceError(f"{self._where} cannot be converted: layer {self.call.layer} ({operator}) {why}.")

    def has(self, name: str) -> bool:
        return self.call.arguments.get(name, ("none", None))[0] != "none"

    def tensor(self, name: str) -> str:
        """The value that holds a tensor argument."""
        kind, value = self.call.arguments.get(name, ("none", None))
        if kind == "tensor":
            return self._value_of(value["name"])
        return self.refuse(f"has no tensor for {name}")

    def tensors(self, name: str) -> list[str]:
        kind, value = self.call.arguments.get(name, ("none", None))
        if kind != "tensors":
            self.refuse(f"has no list of tensors for {name}")
        return [self._value_of(each["name"]) for each in value]

    def optional_tensor(self, name: str) -> str:
        """As `tensor`, or "" if it is left out."""
        return self.tensor(name) if self.has(name) else ""

    def operand(self, name: str, like: str) -> str:
        """A tensor argument, or a plain number as a constant of the dtype of the value `like`."""
        if self.call.arguments.get(name, ("none", None))[0] in ("tensor", "none"):
            return self.tensor(name)
        return self.number(self.plain(name), like)

    def plain(self, name: str, default: Any = None) -> Any:
        """An argument that is no tensor: a number, text, a list, or a dimension."""
        kind, value = self.call.arguments.get(name, ("none", None))
        if kind == "none":
            return default
        if kind == "sym_int":
            return self._size_of(value)
        if kind == "sym_ints":
            return [self._size_of(each) for each in value]
        if kind in ("int", "ints", "float", "floats", "bool", "bools", "string"):
            return value
        return self.refuse(f"has {name} given as {kind}, which it cannot depend on")

    def type_of(self, value: str) -> TensorType:
        return self._builder.types[value]

    def constant(self, array: np.ndarray, hint: str) -> str:
        return self._builder.constant(f"{self.call.results[0]}.{hint}", array)

    def number(self, value: float, like: str) -> str:
        """A plain number as a constant of the dtype of the value `like`."""
        dtype = self.type_of(like).dtype
        if isinstance(value, Batch):
            self.refuse("computes with the batch size as a number")
        if dtype.kind in "iub" and isinstance(value, float):
            self.refuse("mixes integers with fractions")
        return self.constant(np.array(value, dtype), "number")

    def step(self, operator: str, *inputs: str, **attributes: Any) -> str:
        """Adds a node whose result is only used within this call's translation."""
        name = self._builder.free_name(f"{self.call.results[0]}.{operator.lower()}")
        return self._builder.add(operator, inputs, name, self.call.layer, **attributes)

    def result(self, operator: str, *inputs: str, **attributes: Any) -> str:
        """Adds the node that makes this call's (only) result."""
        name = self._builder.free_name(self.call.results[0])
        return self._builder.add(operator, inputs, name, self.call.layer, **attributes)

    def reshaped(self, value: str, sizes: list[Dimension]) -> str:
        """Adds a reshape to sizes of which one may be a multiple of the batch, or -1."""
        if sum(isinstance(size, Batch) or size == -1 for size in sizes) > 1:
            self.refuse(f"reshapes to {shape_text(tuple(sizes))}, which leaves more than one size open")
        return self.result("Reshape", value, shape=[-1 if isinstance(size, Batch) else size for size in sizes])

    def _value_of(self, name: str) -> str:
        value = self._values.get(name)
        if not isinstance(value, str):
            self.refuse(f"reads {name}, which nothing before it makes")
        return value

    def _size_of(self, entry: dict) -> Dimension:
        if "as_int" in entry:
            return entry["as_int"]
        size = self._values.get(entry.get("as_name"))
        if size is None or isinstance(size, str):
            self.refuse(f"uses the size {entry.get('as_name')}, which is not known beforehand")
        return size
