"""Adds operators to a graph that stands before a model, with names of their own."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np

from zygal.graph import Graph, GraphBuilder, TensorType
from zygal.graph.passes.dead import remove_dead
from zygal.inlet.rounding import WHOLE

LAYER = "inlet"


FLOAT, UINT8, INT64, DOUBLE = "float32", "uint8", "int64", "float64"
_STATIC = {
    "Slice": ("starts", "ends", "axes", "steps"),
    "Pad": ("pads",),
    "Reshape": ("shape",),
    "Unsqueeze": ("axes",),
    "Squeeze": ("axes",),
    "ReduceSum": ("axes",),
    "ReduceMax": ("axes",),
    "CumSum": ("axis",),
    "Clip": ("min", "max"),
}
"""Parameters of operators in the order in which they are given here as values, behind the first."""
_SINGLE = ("axis", "min", "max")
_MEASURED = {"Slice": ("MeasuredSlice", ("axes",)), "Pad": ("MeasuredPad", ()), "Expand": ("MeasuredExpand", ())}
"""What takes the parameters as values, and which of them are parameters there too."""


@dataclass(frozen=True)
class Picture:
    """A batch of pictures. value: [N, and three more axes]. order: which these are: a permutation of "HWC".

    The runtime turns one axis to another place quickly and copies single pixels slowly, so the orders go round: HWC,
    WCH, CHW.
    """

    value: str
    order: str

    def axis(self, letter: str) -> int:
        """The axis of a letter of its order, behind the batch."""
        return 1 + self.order.index(letter)

    def holding(self, value: str) -> Picture:
        """Other values in the same order."""
        return replace(self, value=value)


class Writer:
    """Adds operators and constants to a graph."""

    def __init__(self, input: str, type: TensorType):
        self._builder, self._outside, self._counted = GraphBuilder(), [], 0
        self._builder.input(input, type)

    def op(self, operator: str, *inputs: str, **attributes) -> str:
        """Adds an operator and gives the name of its result."""
        for name in inputs:
            self._reach(name)
        inputs, operator, attributes = self._with_parameters(operator, list(inputs), attributes)
        self._counted += 1
        return self._builder.add(operator, inputs, f"{LAYER}.{operator.lower()}_{self._counted}", LAYER, **attributes)

    def finished(self, output: str, wanted: str, kind: str) -> Graph:
        """The graph; its output is cast to a dtype and gets a name."""
        made = self._builder.add("Cast", (output,), wanted, LAYER, to=kind)
        return remove_dead(self._builder.finish([made]))

    def _with_parameters(self, operator: str, inputs: list[str], attributes: dict) -> tuple[list[str], str, dict]:
        """Values that are constants as parameters; where one is not, the operator that takes values."""
        names, known = _STATIC.get(operator, ()), self._builder.constants
        given, more = dict(zip(names, inputs[1:])), inputs[1 + len(names) :]
        if operator == "Expand" or any(name not in known for name in given.values()):
            operator, kept = _MEASURED[operator]
            plain = {name: known[given.pop(name)].tolist() for name in kept}
            return [inputs[0], *given.values(), *more], operator, {**attributes, **plain}
        if not names:
            return inputs, operator, attributes
        plain = {
            name: known[value].item() if name in _SINGLE else known[value].reshape(-1).tolist()
            for name, value in given.items()
        }
        if more:
            plain["value"] = known[more[0]].item()
        return inputs[:1], operator, {**attributes, **plain}

    def _reach(self, name: str) -> None:
        """Inside a branch, makes a value from outside one of the branch's inputs."""
        if name in self._builder.types or not self._outside:
            return
        outer = next(each for each in reversed(self._outside) if name in each.types)
        if name in outer.constants:
            self._builder.constant(name, outer.constants[name])
        else:
            self._builder.input(name, outer.types[name])

    def either(self, condition: str, one: Callable[[], str], other: Callable[[], str]) -> str:
        """The value that `one` or `other` makes; what they add is run only if it is needed."""
        branches = []
        for make in (one, other):
            self._outside.append(self._builder)
            self._builder = GraphBuilder()
            result = make()
            self._reach(result)
            branches.append(remove_dead(self._builder.finish([result])))
            self._builder = self._outside.pop()
        taken = [name for branch in branches for name in branch.inputs]
        return self.op("If", condition, *taken, then_branch=branches[0], else_branch=branches[1])

    def constant(self, array: np.ndarray) -> str:
        """A constant, one for equal arrays."""
        text = "x".join(map(str, array.reshape(-1).tolist()))
        name = f"{LAYER}:{array.dtype}:{list(array.shape)}:{text}"
        return name if name in self._builder.constants else self._builder.constant(name, array)

    def number(self, value: float) -> str:
        """A float32 number."""
        return self.constant(np.array(value, np.float32))

    def exact(self, value: float) -> str:
        """A float64 number."""
        return self.constant(np.array(value, np.float64))

    def whole(self, values: int | Sequence[int]) -> str:
        """Whole numbers."""
        return self.constant(np.array(values, np.int64))

    def side(self, picture: Picture, letter: str) -> str:
        """The length of an axis, a whole number without axes."""
        return self.op("Gather", self.op("Shape", picture.value), self.whole(picture.axis(letter)))

    def ordered(self, picture: Picture, order: str) -> Picture:
        """The picture with its axes in another order."""
        if picture.order == order:
            return picture
        return Picture(self.op("Transpose", picture.value, perm=[0, *map(picture.axis, order)]), order)

    def to(self, value: str, kind: str) -> str:
        """A value in another dtype."""
        return self.op("Cast", value, to=kind)

    def at(self, values: str, axis: int) -> str:
        """A value with one more axis."""
        return self.op("Unsqueeze", values, self.whole([axis]))

    def real(self, value: str) -> str:
        """The value in float32."""
        self._reach(value)
        return value if self._builder.types[value].dtype == np.float32 else self.to(value, FLOAT)

    def is_8_bit(self, value: str) -> bool:
        """Whether a value is stored in 8 bits."""
        self._reach(value)
        return self._builder.types[value].dtype == np.uint8

    def channels(self, picture: Picture) -> int:
        """How many channels a picture has."""
        self._reach(picture.value)
        return self._builder.types[picture.value].shape[picture.axis("C")]

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
