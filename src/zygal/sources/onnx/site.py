"""What the operator table sees of one node of an ONNX file: its version of the standard's operator, its attributes, its
inputs, and ways to add to the graph."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any, NoReturn

import numpy as np

from zygal.errors import SourceError
from zygal.graph import Batch, Dimension, GraphBuilder
from zygal.graph.ops import known_operators, operator_named
from zygal.graph.ops.base import normal_axis
from zygal.sources.emitter import Emitter

Made = str | tuple[str | None, ...]
Handler = Callable[["OnnxSite"], Made]
OPERATORS: dict[str, Handler] = {}
"""The operators that mean more than one of the graph's, by their names in the standard."""


def operator(*names: str) -> Callable[[Handler], Handler]:
    """Enters a function into the table under names of operators."""

    def enter(handler: Handler) -> Handler:
        OPERATORS.update(dict.fromkeys(names, handler))
        return handler

    return enter


@dataclass
class Context:
    """What all nodes of one file share while it is translated. unknown: operators that are not known, with the nodes
    that use them."""

    where: str
    builder: GraphBuilder = field(default_factory=GraphBuilder)
    unknown: dict[str, list[str]] = field(default_factory=dict)


class OnnxSite(Emitter):
    """One node while it is translated. version: that of the standard in which its operator got the meaning that is
    meant. inputs: values of the graph; "" for one that is left out. outputs: the names that the node gives."""

    def __init__(
        self,
        context: Context,
        kind: str,
        version: int,
        stem: str,
        layer: str,
        inputs: list[str],
        outputs: list[str],
        attributes: Mapping[str, Any],
    ):
        super().__init__(context.builder, stem, layer)
        self.context, self.kind, self.version, self.outputs = context, kind, version, outputs
        while inputs and not inputs[-1]:
            inputs = inputs[:-1]
        self.inputs, self._attributes, self._read = inputs, attributes, set()

    def refuse(self, why: str) -> NoReturn:
        """Raises SourceError with the node's name and operator."""
        raise SourceError(f"{self.context.where} cannot be converted: {self._stem} ({self.kind}) {why}.")

    # Attributes

    def attribute(self, name: str, default: Any = None) -> Any:
        """An attribute; it counts as understood."""
        self._read.add(name)
        return self._attributes.get(name, default)

    def without(self, name: str, harmless: Any) -> None:
        """Raises SourceError if an attribute has another value than the one that changes nothing."""
        value = self.attribute(name, harmless)
        if value != harmless:
            self.refuse(f"has {name} {value}, which is not supported")

    def check_read(self) -> None:
        """Raises SourceError naming an attribute that nobody asked for."""
        for name in self._attributes.keys() - self._read:
            self.refuse(f"has the attribute {name}, which is not understood")

    # Inputs

    def given(self, place: int) -> bool:
        """Whether an input is there."""
        return place < len(self.inputs) and bool(self.inputs[place])

    def value(self, place: int) -> str:
        """An input that must be there. Raises SourceError."""
        if not self.given(place):
            self.refuse(f"has no input {place}, so the file is damaged")
        return self.inputs[place]

    def known(self, place: int, what: str) -> np.ndarray:
        """The numbers of an input that must not depend on the image. Raises SourceError."""
        array = self.array(self.value(place))
        if array is None:
            self.refuse(f"computes its {what} from the image, where an artifact needs a constant")
        return array

    def integers(self, place: int, what: str) -> list[int]:
        """The same as a list of whole numbers."""
        array = self.known(place, what)
        if array.dtype.kind not in "iu" or array.ndim > 1:
            self.refuse(f"has {what} {array.dtype} {list(array.shape)} where whole numbers belong")
        return array.reshape(-1).tolist()

    def dimensions(self, place: int, what: str) -> list[Dimension]:
        """An input that holds sizes: numbers and multiples of the batch. Raises SourceError."""
        found = self.contents(self.value(place))
        if found is None and self.array(self.value(place)) is not None:
            found = self.array(self.value(place)).astype(object)
        if found is None or found.ndim > 1:
            self.refuse(f"computes its {what} from the image's contents, where an artifact needs a constant")
        return [each if isinstance(each, Batch) else int(each) for each in found.reshape(-1)]

    def one(self, place: int, what: str) -> Any:
        """An input that holds a single number, which must not depend on the image. Raises SourceError."""
        array = self.known(place, what)
        if array.size != 1:
            self.refuse(f"has {array.size} numbers as its {what}, where one belongs")
        return array.reshape(-1)[0].item()

    def axis(self, default: int, rank: int | None = None, name: str = "axis") -> int:
        """The attribute that names an axis of the first input, counted from the front. Raises SourceError."""
        axis, rank = self.attribute(name, default), self.type_of(self.value(0)).rank if rank is None else rank
        try:
            return normal_axis(axis, rank)
        except ValueError:
            self.refuse(f"names axis {axis} of a tensor with {rank} axes")

    # Results

    def kept(self, operator: str, *inputs: str, **attributes: Any) -> str:
        """Adds a node that stays one even where all its inputs are constants."""
        wanted = self._builder.free_name(f"{self._stem}.{operator.lower()}")
        return self._builder.add(operator, inputs, wanted, self._layer, **attributes)

    def alike(self, *inputs: str, operator: str | None = None, **attributes: Any) -> Made:
        """The graph's operator of the same name, with the node's attributes that it has; others must be read by the
        caller."""
        known = operator_named(operator or self.kind)
        for each in known.parameters:
            if each.name not in attributes and each.name in self._attributes:
                attributes[each.name] = self.attribute(each.name)
        if known.results == 1:
            return self.step(known.name, *inputs, **attributes)
        return self.several(known.name, *inputs, count=known.results, **attributes)


def as_it_is(site: OnnxSite) -> Made:
    """An operator that the graph has in the same form."""
    return site.alike(*site.inputs)


def handler_of(kind: str) -> Handler | None:
    """How an operator of the standard is translated; None if it is not known."""
    return OPERATORS.get(kind) or (as_it_is if kind in known_operators() and kind not in WRITTEN_ONLY else None)


WRITTEN_ONLY = ("If", "MeasuredExpand", "MeasuredPad", "MeasuredReshape", "MeasuredSlice")
"""Operators of the graph that are only written, in the inlet of artifacts that take raw pixels."""
