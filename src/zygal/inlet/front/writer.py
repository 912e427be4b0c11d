"""Writing operators of the standard, with names of their own, that stand before a model."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

import numpy as np

from zygal.inlet.rounding import WHOLE

LAYER = "inlet"


# Numbers of the standard's element types.
FLOAT, UINT8, INT64, DOUBLE = 1, 2, 7, 11


@dataclass(frozen=True)
class FrontNode:
    """One operator of the standard: its name there, names of values, attributes. A branch is its nodes and its result."""

    operator: str
    inputs: tuple[str, ...]
    outputs: tuple[str, ...]
    attributes: dict


@dataclass
class Front:
    """Operators that make `output` (the tensor) of `input` (the pixels), and their constants by name."""

    input: str
    output: str
    nodes: list[FrontNode] = field(default_factory=list)
    constants: dict[str, np.ndarray] = field(default_factory=dict)

    def constants_read(self) -> dict[str, np.ndarray]:
        """The constants that an operator reads: the runtime warns of others each time it loads them."""
        read: set[str] = {self.output}
        waiting = list(self.nodes)
        while waiting:
            node = waiting.pop()
            read.update(node.inputs)
            for value in node.attributes.values():
                if isinstance(value, tuple) and len(value) == 2 and isinstance(value[0], tuple):
                    waiting += value[0]
                    read.add(value[1])
        return {name: array for name, array in self.constants.items() if name in read}


class Writer:
    """Adds operators and constants with names of their own."""

    def __init__(self, front: Front):
        self.front, self.made = front, 0

    def op(self, operator: str, *inputs: str, **attributes) -> str:
        self.made += 1
        name = f"{LAYER}.{operator.lower()}_{self.made}"
        self.front.nodes.append(FrontNode(operator, inputs, (name,), attributes))
        return name

    def either(self, condition: str, one: Callable[[], str], other: Callable[[], str]) -> str:
        """The value that `one` or `other` makes; what they add is run only if it is needed."""
        outside, branches = self.front.nodes, []
        for make in (one, other):
            self.front.nodes = []
            result = make()
            branches.append((tuple(self.front.nodes), result))
        self.front.nodes = outside
        return self.op("If", condition, then_branch=branches[0], else_branch=branches[1])

    def constant(self, array: np.ndarray) -> str:
        text = "x".join(map(str, array.reshape(-1).tolist()))
        name = f"{LAYER}:{array.dtype}:{list(array.shape)}:{text}"
        self.front.constants[name] = array
        return name

    def number(self, value: float) -> str:
        return self.constant(np.array(value, np.float32))

    def exact(self, value: float) -> str:
        return self.constant(np.array(value, np.float64))

    def whole(self, values: int | Sequence[int]) -> str:
        return self.constant(np.array(values, np.int64))

    def side(self, picture: str, axis: int) -> str:
        """The length of an axis, a whole number without axes."""
        return self.op("Gather", self.op("Shape", picture), self.whole(axis))

    def to(self, value: str, kind: int) -> str:
        return self.op("Cast", value, to=kind)

    def at(self, values: str, axis: int) -> str:
        return self.op("Unsqueeze", values, self.whole([axis]))

    def count(self, length: str) -> str:
        """0, 1, ... length - 1 in float64."""
        return self.op("Range", self.exact(0.0), self.to(length, DOUBLE), self.exact(1.0))

    def rounded(self, picture: str, how: str) -> str:
        """To whole levels of 0 to 255: "up" from the half on, "even" halves to even, "down"."""
        if how == "even":
            picture = self.op("Round", picture)
        else:
            picture = self.op("Floor", self.op("Add", picture, self.number(0.5 if how == "up" else WHOLE)))
        return self.op("Clip", picture, self.number(0.0), self.number(255.0))
