"""What every source family's operator table writes with: nodes and constants, named after the layer that asks for
them."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Sequence
from typing import Any, NoReturn

import numpy as np

from zygal.graph import Batch, Dimension, GraphBuilder, Node, TensorType
from zygal.graph.folding import folded
from zygal.graph.shapes import shape_text, split_size


class Emitter(ABC):
    """Adds nodes for one layer. What depends on constants alone is computed at once and is a constant again.

    `stem` begins the names of what is made, `layer` is the layer of the training code.
    """

    def __init__(self, builder: GraphBuilder, stem: str, layer: str):
        self._builder, self._stem, self._layer = builder, stem, layer

    @abstractmethod
    def refuse(self, why: str) -> NoReturn:
        """Ends the conversion with a SourceError: this layer cannot be expressed."""

    def type_of(self, value: str) -> TensorType:
        """The type of a value."""
        return self._builder.types[value]

    def array(self, value: str) -> np.ndarray | None:
        """The numbers of a value that is a constant, or that holds sizes of which none is the batch; else None."""
        if value in self._builder.constants:
            return self._builder.constants[value]
        known = self._builder.contents.get(value)
        if known is None or any(isinstance(each, Batch) for each in known.flat):
            return None
        return known.astype(self.type_of(value).dtype)

    def contents(self, value: str) -> np.ndarray | None:
        """What a small tensor of whole numbers holds: numbers and multiples of the batch as objects; None if it is not
        known."""
        return self._builder.contents.get(value)

    def made_by(self, value: str) -> Node | None:
        """The node that makes a value; None of an input or a constant."""
        return self._builder.maker(value)

    def filling(self, value: str) -> float | None:
        """The one number that a value holds everywhere, if it is a constant or a repetition of a constant."""
        maker = self._builder.maker(value)
        array = self.array(maker.inputs[0] if maker is not None and maker.operator == "Expand" else value)
        return None if array is None or not array.size or (array != array.flat[0]).any() else float(array.flat[0])

    def renamed(self, value: str, wanted: str) -> str:
        """Gives a value that this layer made another name, if that is free; returns its name."""
        return self._builder.rename(value, wanted) if value.startswith(f"{self._stem}.") else value

    def constant(self, array: np.ndarray, hint: str) -> str:
        """A constant; hint: the end of its name."""
        return self._builder.constant(f"{self._stem}.{hint}", array)

    def number(self, value: float, like: str) -> str:
        """A plain number as a constant of the dtype of the value `like`."""
        dtype = self.type_of(like).dtype
        if isinstance(value, Batch):
            self.refuse("computes with the batch size as a number")
        if isinstance(value, str):  # The file spells what JSON has no number for.
            value = float(value)
        if dtype.kind in "iub" and isinstance(value, float) and value != int(value):
            self.refuse("mixes integers and floating-point numbers")
        return self.constant(np.array(value, dtype), "number")

    def step(self, operator: str, *inputs: str, **attributes: Any) -> str:
        """Adds a node whose result is only used within this layer's translation."""
        wanted = f"{self._stem}.{operator.lower()}"
        known_values = self._builder.constants
        if inputs and all(not name or name in known_values for name in inputs):
            arrays = [known_values[name] if name else None for name in inputs]
            return self._builder.made_constant(wanted, folded(operator, arrays, attributes, self._builder.budget)[0])
        return self._builder.add(operator, inputs, self._builder.free_name(wanted), self._layer, **attributes)

    def several(self, operator: str, *inputs: str, count: int, **attributes: Any) -> tuple[str, ...]:
        """Adds a node with several results."""
        names = [self._builder.free_name(f"{self._stem}.{position}") for position in range(count)]
        self._builder.add(operator, inputs, names, self._layer, **attributes)
        return tuple(names)

    def reshaped(self, value: str, sizes: Sequence[Dimension]) -> str:
        """Adds a reshape to sizes of which one may be a multiple of the batch, and one -1."""
        return self.step("Reshape", value, shape=self._reshape_target(value, list(sizes)))

    def expanded(self, value: str, sizes: Sequence[Dimension]) -> str:
        """Adds a repetition up to sizes of which some may be multiples of the batch."""
        if not any(isinstance(size, Batch) for size in sizes):
            shape = self.constant(np.array(sizes, np.int64), "sizes")
            return self.step("Expand", value, shape, sizes=tuple(sizes))
        count = self.step("Shape", self._builder.input_names[0], start=0, end=1)
        parts = []
        for size in sizes:
            if isinstance(size, Batch):
                times = self.constant(np.array([size.times], np.int64), "times")
                parts.append(count if size.times == 1 else self.step("Mul", count, times))
            else:
                parts.append(self.constant(np.array([size], np.int64), "size"))
        shape = self.step("Concat", *parts, axis=0) if len(parts) > 1 else parts[0]
        return self.step("Expand", value, shape, sizes=tuple(sizes))

    def _reshape_target(self, value: str, sizes: list[Dimension]) -> list[int]:
        fixed, batches = split_size(self.type_of(value).shape)
        if -1 in sizes:
            position = sizes.index(-1)
            others, used = split_size(tuple(size for at, size in enumerate(sizes) if at != position))
            rest = fixed // others if others else 0
            sizes[position] = Batch(rest) if batches > used else rest
        if sum(isinstance(size, Batch) for size in sizes) > 1:
            self.refuse(f"reshapes to {shape_text(tuple(sizes))}, which uses the batch more than once")
        return [-1 if isinstance(size, Batch) else size for size in sizes]
