"""What an operator is, and the list of all of them."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, ClassVar

import numpy as np

from zygal.errors import GraphError
from zygal.graph.shapes import TensorType, broadcast

REQUIRED = object()
FLOATS = frozenset(("float16", "float32", "float64"))
INTEGERS = frozenset(("int8", "int16", "int32", "int64", "uint8", "uint16", "uint32", "uint64"))
WIDE = frozenset(("int32", "int64"))
"""The integers in which the standard counts and points at places."""
NUMBERS = FLOATS | INTEGERS
TRUTH = frozenset(("bool",))
ANYTHING = NUMBERS | TRUTH
_NAMES = {np.dtype(name).char: name for name in ANYTHING}
"""Names by the letters of dtypes, which are much faster to ask for."""


@dataclass(frozen=True)
class Parameter:
    """A static parameter of an operator. `default` is the standard's own; of None nothing is stated."""

    name: str
    default: Any = REQUIRED


class Operator(ABC):
    """One operator. Subclasses set `name`, may set `parameters`, and give `infer` and `compute`."""

    name: ClassVar[str]
    parameters: ClassVar[tuple[Parameter, ...]] = ()
    results: ClassVar[int] = 1
    accepts: ClassVar[tuple[frozenset[str], ...]] = (FLOATS,)
    """The dtypes that each input may have; the last entry also holds for the inputs behind it."""
    apart: ClassVar[frozenset[int] | None] = frozenset()
    """The inputs that may have another dtype than the rest, which all have one; None: all may."""

    @abstractmethod
    def infer(self, inputs: Sequence[TensorType | None], attributes: Mapping[str, Any]) -> list[TensorType]:
        """The types of the results. Raises ValueError when the inputs do not fit."""

    @abstractmethod
    def compute(self, inputs: Sequence[np.ndarray | None], attributes: Mapping[str, Any]) -> list[np.ndarray]:
        """The results in NumPy, with dtypes and shapes as `infer` says."""

    def check_dtypes(self, inputs: Sequence[TensorType | None]) -> None:
        """Raises ValueError naming the first input whose dtype the operator does not take."""
        for position, given in enumerate(inputs):
            allowed = self.accepts[min(position, len(self.accepts) - 1)]
            if given is not None and _NAMES.get(given.dtype.char) not in allowed:
                raise ValueError(f"input {position} is {given.dtype}, but it takes {', '.join(sorted(allowed))}")
        if self.apart is None:
            return
        alike = dict.fromkeys(
            str(given.dtype)
            for position, given in enumerate(inputs)
            if given is not None and position not in self.apart
        )
        if len(alike) > 1:
            raise ValueError(f"its operands have different dtypes, {' and '.join(alike)}")

    def complete(self, attributes: Mapping[str, Any]) -> dict[str, Any]:
        """The attributes with every default filled in. Raises GraphError on unknown or missing ones."""
        names = {parameter.name for parameter in self.parameters}
        for name in attributes:
            if name not in names:
                raise GraphError(f"{self.name} has no attribute {name}.")
        complete = {}
        for parameter in self.parameters:
            value = attributes.get(parameter.name, parameter.default)
            if value is REQUIRED:
                raise GraphError(f"{self.name} needs the attribute {parameter.name}.")
            complete[parameter.name] = value
        return complete


_OPERATORS: dict[str, Operator] = {}


def register(operator: type[Operator] | Operator) -> type[Operator] | Operator:
    """Adds an operator to the list; used as a class decorator."""
    instance = operator() if isinstance(operator, type) else operator
    if instance.name in _OPERATORS:
        raise GraphError(f"the operator {instance.name} is defined twice.")
    _OPERATORS[instance.name] = instance
    return operator


def operator_named(name: str) -> Operator:
    try:
        return _OPERATORS[name]
    except KeyError:
        raise GraphError(f"there is no operator {name}.") from None


def known_operators() -> dict[str, Operator]:
    return dict(_OPERATORS)


class Elementwise(Operator):
    """An operator that maps every element by `function`; further parameters reach it by keyword."""

    function: ClassVar[Callable[..., np.ndarray]]

    def infer(self, inputs, attributes):
        (given,) = inputs
        return [given]

    def compute(self, inputs, attributes):
        (given,) = inputs
        return [np.asarray(self.function(given, **attributes), dtype=given.dtype)]


class Binary(Operator):
    """An operator on two tensors of one dtype that are broadcast together."""

    function: ClassVar[Callable[[np.ndarray, np.ndarray], np.ndarray]]

    def infer(self, inputs, attributes):
        left, right = inputs
        if left.dtype != right.dtype:
            raise ValueError(f"its operands have different dtypes, {left.dtype} and {right.dtype}")
        return [TensorType(left.dtype, broadcast(left.shape, right.shape))]

    def compute(self, inputs, attributes):
        left, right = inputs
        return [np.asarray(self.function(left, right), dtype=left.dtype)]


def normal_axis(axis: int, rank: int) -> int:
    """A possibly negative axis counted from the front. Raises ValueError."""
    if not -rank <= axis < rank:
        raise ValueError(f"axis {axis} does not exist in {rank} dimensions")
    return axis % rank
