"""What the operator table sees of one node of a symbol file: its attributes as values, its inputs, and ways to add to
the graph."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import NoReturn

from zygal.errors import SourceError, shown
from zygal.graph import GraphBuilder
from zygal.sources.emitter import Emitter
from zygal.sources.mxnet.symbol import SymbolNode

Made = str | tuple[str, ...]
Handler = Callable[["SymbolSite"], Made]
OPERATORS: dict[str, Handler] = {}
"""The operators that can be translated, by their names in symbol files."""
_WITHOUT_EFFECT = frozenset(("cudnn_off", "cudnn_tune", "workspace", "name", "num_args", "is_int", "ctx", "mkldnn_off"))
"""Attributes that concern the device alone, or say what the inputs say."""
_INTEGER = re.compile(r"[+-]?\d{1,18}L?")


def operator(*names: str) -> Callable[[Handler], Handler]:
    """Enters a function into the table under names of operators."""

    def enter(handler: Handler) -> Handler:
        OPERATORS.update(dict.fromkeys(names, handler))
        return handler

    return enter


@dataclass
class Context:
    """What all nodes of one file share while it is translated."""

    where: str
    builder: GraphBuilder = field(default_factory=GraphBuilder)
    unknown: dict[str, list[str]] = field(default_factory=dict)


class SymbolSite(Emitter):
    """One node while it is translated. inputs: values of the graph. Readers of attributes raise SourceError, naming the
    node."""

    def __init__(self, context: Context, node: SymbolNode, inputs: list[str]):
        super().__init__(context.builder, node.name, node.name)
        self.context, self.node, self.inputs, self._read = context, node, inputs, set(_WITHOUT_EFFECT)

    def refuse(self, why: str) -> NoReturn:
        """Raises SourceError with the node's name and operator."""
        raise SourceError(f"{self.context.where} cannot be converted: {shown(self.node.name)} ({self.node.op}) {why}.")

    def check_read(self) -> None:
        """Raises SourceError naming an attribute that nobody asked for."""
        for name in sorted(self.node.attributes.keys() - self._read):
            self.refuse(f"has the attribute {shown(name)}, which is not understood")

    @property
    def x(self) -> str:
        """The first input."""
        return self.input(0)

    def input(self, place: int) -> str:
        """Raises SourceError if it is not there."""
        if place >= len(self.inputs):
            self.refuse(f"has no input {place}, so the file is damaged")
        return self.inputs[place]

    # Attributes, all written as text

    def text(self, name: str, default: str | None = None) -> str | None:
        """As it stands; None where it says "None"."""
        self._read.add(name)
        value = self.node.attributes.get(name, default)
        return None if value == "None" else value

    def choice(self, name: str, default: str, *known: str) -> str:
        """One of several words."""
        value = self.text(name, default)
        if value not in known:
            self.refuse(f"has {name} {shown(str(value))}, which is not supported")
        return value

    def truth(self, name: str, default: bool = False) -> bool:
        """True, False, 1 or 0."""
        value = self.text(name, str(default))
        if value not in ("True", "False", "1", "0", "true", "false"):
            self.refuse(f"has {name} {shown(str(value))}, which is neither true nor false")
        return value in ("True", "1", "true")

    def real(self, name: str, default: float | None = None) -> float:
        """A number with a decimal point or without."""
        value = self.text(name, None if default is None else repr(default))
        try:
            return float(value)
        except (TypeError, ValueError):
            self.refuse(f"has {name} {shown(str(value))}, which is no number")

    def integer(self, name: str, default: int | None = None) -> int | None:
        """A whole number, or None where it says so."""
        value = self.text(name, None if default is None else str(default))
        return None if value is None else self._integer(name, value)

    def integers(self, name: str, default: tuple[int, ...] | None = None) -> tuple[int | None, ...] | None:
        """A list such as (3, 3), in which None may stand; a single number is a list of one."""
        value = self.text(name)
        if value is None:
            return default
        inner = value.strip().strip("()[]").strip()
        parts = [each.strip() for each in inner.split(",")] if inner else []
        if parts and not parts[-1]:
            parts.pop()
        return tuple(None if each == "None" else self._integer(name, each) for each in parts)

    def _integer(self, name: str, value: str) -> int:
        if not _INTEGER.fullmatch(value.strip()):
            self.refuse(f"has {name} {shown(value)}, which is no whole number")
        return int(value.strip().rstrip("L"))

    def without(self, name: str, *harmless: str | None) -> None:
        """Raises SourceError if an attribute is there with another value than those that change nothing."""
        value = self.text(name, harmless[0])
        if value not in harmless:
            self.refuse(f"has {name} {shown(str(value))}, which is not supported")

    def axis(self, name: str = "axis", default: int | None = None, rank: int | None = None) -> int:
        """An axis of the first input, counted from the front."""
        rank = self.type_of(self.x).rank if rank is None else rank
        axis = self.integer(name, default)
        if axis is None or not -rank <= axis < rank:
            self.refuse(f"names axis {axis} of a tensor with {rank} axes")
        return axis % rank
