"""What the table of spellings sees of one node: what it is given, and ways to add operators of the format."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import TYPE_CHECKING, Any, NoReturn

import numpy as np

from zygal.artifact.mobile.views import View, channels_last, natural, permuted
from zygal.graph import Batch, Dimension, Node, TensorType
from zygal.graph.ops import operator_named
from zygal.graph.shapes import broadcast
from zygal.mobile.model import Operator, Quantization

if TYPE_CHECKING:
    from zygal.artifact.mobile.lowering import Lowering

Spelling = Callable[["Site"], "View | list[View]"]
SPELLINGS: dict[str, Spelling] = {}
"""How each operator of the graph is spelt in the mobile format."""


def spelt(*operators: str) -> Callable[[Spelling], Spelling]:
    """Enters a function into the table under names of the graph's operators."""

    def enter(function: Spelling) -> Spelling:
        SPELLINGS.update(dict.fromkeys(operators, function))
        return function

    return enter


class Unspeakable(Exception):
    """A node cannot be expressed; the message ends a sentence that begins with its name."""


class Site:
    """One node while it is spelt."""

    def __init__(self, lowering: Lowering, node: Node):
        self.lowering, self.node = lowering, node
        self.stem = node.outputs[0]

    # What is given

    def view(self, place: int = 0) -> View:
        return self.lowering.view(self.node.inputs[place])

    def has(self, place: int) -> bool:
        return place < len(self.node.inputs) and bool(self.node.inputs[place])

    def views(self) -> list[View]:
        return [self.lowering.view(name) for name in self.node.inputs]

    def type(self, place: int = 0) -> TensorType:
        return self.lowering.graph.types[self.node.inputs[place]]

    def made(self, place: int = 0) -> TensorType:
        return self.lowering.graph.types[self.node.outputs[place]]

    def attributes(self) -> Mapping[str, Any]:
        return operator_named(self.node.operator).complete(self.node.attributes)

    def array(self, place: int) -> np.ndarray | None:
        """The numbers of an input that is a constant, else None."""
        return self.view(place).array

    def refuse(self, why: str) -> NoReturn:
        raise Unspeakable(why)

    # What is made

    def step(
        self,
        operator: str,
        inputs: Sequence[int],
        shape: Sequence[Dimension],
        dtype: Any,
        version: int = 1,
        **options: Any,
    ) -> int:
        """Adds an operator with one result."""
        made = self.lowering.tensor(shape, np.dtype(dtype), f"{self.stem}/{operator.lower()}")
        self.lowering.operators.append(Operator(operator, list(inputs), [made], options, version))
        if np.dtype(dtype).name in ("int8", "uint8"):
            # What moves stored numbers leaves their meaning.
            self.lowering.tensors[made].quantization = self.lowering.tensors[inputs[0]].quantization
        return made

    def weight(self, place: int, array: np.ndarray, order: Sequence[int], hint: str) -> int:
        """A constant input in an order of its axes, or rearranged with its axes in place; `array` is its numbers. Where
        it is stored in few bits, that is remembered."""
        made = self.constant(np.transpose(array, order), hint)
        stored = self.view(place).stored
        if stored is not None and stored[0].size == array.size:
            numbers, steps = stored
            kept = np.transpose(numbers.reshape(array.shape), order)
            moved = Quantization(
                steps.scales, steps.zero_points, list(order).index(steps.axis) if steps.per_axis else 0
            )
            self.lowering.remember(made, kept, moved)
        return made

    def numbers(self, values: Any, dtype: str = "int32") -> int:
        """A small constant."""
        return self.lowering.constant(np.array(values, dtype), f"{self.stem}.numbers")

    def constant(self, array: np.ndarray, hint: str = "constant") -> int:
        return self.lowering.constant(array, f"{self.stem}.{hint}")

    def shape_of(self, tensor: int) -> tuple[Dimension, ...]:
        return self.lowering.shapes[tensor]

    def dtype_of(self, tensor: int) -> str:
        return self.lowering.tensors[tensor].dtype

    def laid(self, view: View, order: tuple[int, ...]) -> int:
        """The tensor of a view whose axes lie in a certain order."""
        if view.array is not None:
            return self.lowering.constant(np.transpose(view.array, order), f"{self.stem}.constant")
        if view.picks is not None:
            view = self.gathered(view)
        return view.tensor if view.order == order else self.lowering.turned(view, order, self)

    def moves(self, view: View, order: tuple[int, ...]) -> bool:
        """Whether putting a value's axes in another order moves anything in memory."""
        shape = dict(zip(view.order, self.shape_of(view.tensor)))
        return [axis for axis in view.order if shape[axis] != 1] != [axis for axis in order if shape[axis] != 1]

    def plain(self, view: View) -> int:
        return self.laid(view, natural(view.rank))

    def image(self, view: View) -> int:
        """The tensor of an image with its channels last."""
        return self.laid(view, channels_last(view.rank))

    def lying(self, place: int = 0) -> View:
        """An input as it lies in a tensor: a constant in the graph's order, a matrix with its columns as the graph
        counts them."""
        view = self.gathered(self.view(place))
        return view if view.array is None else View(natural(view.rank), self.plain(view))

    def gathered(self, view: View) -> View:
        """A matrix with its columns as the graph counts them."""
        if view.picks is None:
            return view
        places = self.constant(np.argsort(view.picks).astype(np.int32), "columns")
        made = self.step(
            "GATHER",
            [view.tensor, places],
            self.shape_of(view.tensor),
            self.dtype_of(view.tensor),
            axis=1,
            batch_dims=0,
        )
        return View(view.order, made)

    def reshape_tensor(self, tensor: int, sizes: Sequence[Dimension]) -> int:
        """The tensor reshaped to sizes of which one may be a multiple of the batch."""
        if tuple(sizes) == self.shape_of(tensor):
            return tensor
        if sum(isinstance(size, Batch) for size in sizes) > 1:
            self.refuse("uses the batch more than once")
        target = [-1 if isinstance(size, Batch) else int(size) for size in sizes]
        return self.step("RESHAPE", [tensor, self.numbers(target)], sizes, self.dtype_of(tensor), new_shape=target)

    def reshaped(self, view: View, sizes: Sequence[Dimension]) -> View:
        return View(natural(len(sizes)), self.reshape_tensor(self.plain(view), sizes))

    def result(self, tensor: int, order: tuple[int, ...] | None = None) -> View:
        return View(order or natural(len(self.shape_of(tensor))), tensor)

    def stored(self, order: tuple[int, ...], place: int = 0) -> tuple[Dimension, ...]:
        """The shape of a result as it lies in an order."""
        return permuted(self.made(place).shape, order)

    def unary(self, operator: str, tensor: int, **options: Any) -> int:
        return self.step(operator, [tensor], self.shape_of(tensor), self.dtype_of(tensor), **options)

    def binary(self, operator: str, one: int, other: int, dtype: Any = None) -> int:
        """An element-wise operation on two tensors that broadcast as they lie."""
        shape = broadcast(self.shape_of(one), self.shape_of(other))
        options = {"activation": 0} if operator in ("ADD", "SUB", "MUL", "DIV") else {}
        return self.step(operator, [one, other], shape, dtype or self.dtype_of(one), **options)

    def number(self, value: float, like: int) -> int:
        return self.numbers(value, self.dtype_of(like))
