"""What the operator table sees of one call: its arguments in graph terms, and ways to add nodes."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from math import prod
from typing import Any, NoReturn

import numpy as np

from zygal.errors import SourceError
from zygal.graph import Batch, Dimension, GraphBuilder
from zygal.graph.shapes import shape_text
from zygal.sources.emitter import Emitter
from zygal.sources.pytorch.memory_layout import Layout
from zygal.sources.pytorch.program import Call

Handler = Callable[["Site"], "str | tuple[str, ...] | Dimension | Places | None"]

MOST_ELEMENTS = 1 << 27
IN_TRAINING = "the model was captured in training mode; it was converted to what it does at inference"


@dataclass(frozen=True)
class Places:
    """0, 1, ... to the number of images, as [N, 1, ...] with so many axes: only known as an index of all images."""

    rank: int

    @property
    def shape(self) -> tuple[Dimension, ...]:
        """The sizes of the axes."""
        return (Batch(1), *[1] * (self.rank - 1))


HANDLERS: dict[str, Handler] = {}
"""The operators that can be translated, by the framework's name without its prefix (conv2d.default)."""


def aten(*names: str) -> Callable[[Handler], Handler]:
    """Enters a function into the table under ATen names."""

    def enter(handler: Handler) -> Handler:
        plain = ("_operator.", "math.", "torch.")
        HANDLERS.update({name if name.startswith(plain) else f"aten.{name}": handler for name in names})
        return handler

    return enter


@dataclass
class Context:
    """What all calls of one program share while it is translated.

    values: what each name of the program stands for. layouts: where the tensors lay in memory when it was captured.
    """

    where: str
    layouts: Mapping[str, Layout] = field(default_factory=dict)
    builder: GraphBuilder = field(default_factory=GraphBuilder)
    values: dict[str, str | Dimension | Places | None] = field(default_factory=dict)
    notes: list[str] = field(default_factory=list)


class Site(Emitter):
    """One call while it is translated. Argument readers raise SourceError, naming the layer."""

    def __init__(self, call: Call, context: Context):
        super().__init__(context.builder, call.results[0] if call.results else call.layer, call.layer)
        self.call, self._context, self._values = call, context, context.values
        self.read: set[str] = set()
        """The arguments that the handler looked at."""

    def note(self, sentence: str) -> None:
        """Something that the person should know about the conversion, said once."""
        if sentence not in self._context.notes:
            self._context.notes.append(sentence)

    @property
    def target(self) -> str:
        """The operator as the program names it, such as "torch.ops.aten.conv2d.default"."""
        return self.call.target

    def refuse(self, why: str) -> NoReturn:
        """Ends the conversion: this call cannot be expressed."""
        operator = self.call.target.removeprefix("torch.ops.")
        raise SourceError(f"{self._context.where} cannot be converted: layer {self.call.layer} ({operator}) {why}.")

    def _given(self, name: str) -> tuple[str, Any]:
        """The kind and the value of an argument; from here on it counts as read."""
        self.read.add(name)
        return self.call.arguments.get(name, ("none", None))

    def has(self, name: str) -> bool:
        """Whether an argument is given; that alone does not count as reading it."""
        return self.call.arguments.get(name, ("none", None))[0] != "none"

    def is_tensor(self, name: str) -> bool:
        """Whether an argument is a tensor."""
        return self.call.arguments.get(name, ("none", None))[0] == "tensor"

    def tensor(self, name: str) -> str:
        """The value that holds a tensor argument."""
        kind, value = self._given(name)
        if kind == "tensor":
            return self._value_of(value["name"])
        return self.refuse(f"has no tensor for {name}")

    def layout_of(self, name: str) -> Layout | None:
        """Where a tensor argument lay in memory when the program was captured, or None if that is not known."""
        kind, value = self._given(name)
        return self._context.layouts.get(value["name"]) if kind == "tensor" else None

    def check_count(self, sizes: Sequence[Dimension]) -> None:
        """Refuses sizes at which what only the file says would take memory beyond reason."""
        count = prod(size.times if isinstance(size, Batch) else size for size in sizes)
        if count > MOST_ELEMENTS or any(not isinstance(size, Batch) and size < 0 for size in sizes):
            self.refuse(f"makes a tensor of {shape_text(tuple(sizes))}, which no image classifier needs")

    def tensors(self, name: str) -> list[str]:
        """A list of tensors. Raises SourceError if the argument is something else."""
        kind, value = self._given(name)
        if kind != "tensors":
            self.refuse(f"has no list of tensors for {name}")
        return [self._value_of(each["name"]) for each in value]

    def optional_tensors(self, name: str) -> list[str | Places | None]:
        """A list of tensors of which some are left out, as indices are; the places of the images as such."""
        kind, value = self._given(name)
        if kind not in ("tensors", "optional_tensors"):
            self.refuse(f"has no list of tensors for {name}")
        listed = [each if kind == "tensors" else each.get("as_tensor") for each in value]
        names = [None if each is None else each["name"] for each in listed]
        found = [self._values.get(each) for each in names]
        return [
            value if each is None or isinstance(value, Places) else self._value_of(each)
            for each, value in zip(names, found)
        ]

    def places(self, name: str) -> Places | None:
        """A tensor argument that is the places of the images; None for any other."""
        kind, value = self.call.arguments.get(name, ("none", None))
        found = self._values.get(value["name"]) if kind == "tensor" else None
        if not isinstance(found, Places):
            return None
        self.read.add(name)
        return found

    def plain_arguments(self) -> list[Any]:
        """All arguments in their order, where none is a tensor."""
        return [self.plain(name) for name in self.call.arguments]

    def optional_tensor(self, name: str) -> str:
        """As `tensor`, or "" if it is left out."""
        return self.tensor(name) if self.has(name) else ""

    def plain(self, name: str, default: Any = None) -> Any:
        """An argument that is no tensor: a number, text, a list, or a dimension."""
        kind, value = self._given(name)
        if kind == "none":
            return default
        if kind == "sym_int":
            return self._size_of(value)
        if kind == "sym_bool":
            return self._values.get(value.get("as_name")) if "as_name" in value else value.get("as_bool")
        if kind == "sym_ints":
            return [self._size_of(each) for each in value]
        if kind in ("int", "ints", "float", "floats", "bool", "bools", "string", "scalar_type", "memory_format"):
            return value
        return self.refuse(f"has {name} given as {kind}, which it cannot depend on")

    def known_array(self, name: str) -> np.ndarray:
        """The numbers of a tensor argument that must not depend on the image."""
        array = self.array(self.tensor(name))
        if array is None:
            self.refuse(f"needs {name} to be known beforehand, but it depends on the image")
        return array

    def _value_of(self, name: str) -> str:
        value = self._values.get(name)
        if isinstance(value, Places):
            self.refuse("computes with the places of the images, which are only known as an index of all of them")
        if not isinstance(value, str):
            self.refuse(f"reads {name}, which no earlier node produces")
        return value

    def _size_of(self, entry: dict) -> Dimension:
        if "as_int" in entry:
            return entry["as_int"]
        size = self._values.get(entry.get("as_name"))
        if size is None or isinstance(size, str):
            self.refuse(f"uses the size {entry.get('as_name')}, which is not known at conversion time")
        return size
