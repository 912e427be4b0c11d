"""What the table of spellings sees of one node: what it is given, and ways to add operators of the format."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any, NoReturn

import numpy as np

from zygal.artifact.mobile.views import View, channels_last, natural, permuted
from zygal.graph import Batch, Dimension, Graph, Node, TensorType
from zygal.graph.build import free_name
from zygal.graph.ops import operator_named
from zygal.graph.shapes import broadcast
from zygal.mobile.model import MobileModel, Operator, Quantization, Signature, Tensor

NARROWED = {np.dtype("int64"): np.dtype("int32")}
"""Whole numbers are sizes and places; the format's operators take them with 32 bits."""
COMPUTED = ("float32", "int32", "bool", "int8", "uint8")
Spelling = Callable[["Site"], "View | list[View]"]
SPELLINGS: dict[str, Spelling] = {}
"""How each operator of the graph is spelt in the mobile format."""


def spelt(*operators: str) -> Callable[[Spelling], Spelling]:
    """Enters a function into the table under names of the graph's operators."""

    def enter(function: Spelling) -> Spelling:
        SPELLINGS.update(dict.fromkeys(operators, function))
        return function

    return enter


class NotExpressible(Exception):
    """A node cannot be expressed; the message ends a sentence that begins with its name."""


class Site:
    """One node while it is spelt."""

    def __init__(self, lowering: Lowering, node: Node):
        self.lowering, self.node = lowering, node
        self.stem = node.outputs[0]

    # What is given

    def view(self, place: int = 0) -> View:
        """The value of an input."""
        return self.lowering.view(self.node.inputs[place])

    def has(self, place: int) -> bool:
        """Whether an input is there."""
        return place < len(self.node.inputs) and bool(self.node.inputs[place])

    def views(self) -> list[View]:
        """The values of all inputs."""
        return [self.lowering.view(name) for name in self.node.inputs]

    def type(self, place: int = 0) -> TensorType:
        """The type that an input has in the graph."""
        return self.lowering.graph.types[self.node.inputs[place]]

    def made(self, place: int = 0) -> TensorType:
        """The type that a result has in the graph."""
        return self.lowering.graph.types[self.node.outputs[place]]

    def attributes(self) -> Mapping[str, Any]:
        """All attributes of the node, those that are left out with their defaults."""
        return operator_named(self.node.operator).complete(self.node.attributes)

    def array(self, place: int) -> np.ndarray | None:
        """The numbers of an input that is a constant, else None."""
        return self.view(place).array

    def refuse(self, why: str) -> NoReturn:
        """Raises NotExpressible."""
        raise NotExpressible(why)

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
        quantized = self.view(place).quantized
        if quantized is not None and quantized[0].size == array.size:
            numbers, quantization = quantized
            kept = np.transpose(numbers.reshape(array.shape), order)
            moved = Quantization(
                quantization.scales,
                quantization.zero_points,
                list(order).index(quantization.axis) if quantization.per_axis else 0,
            )
            self.lowering.remember(made, kept, moved)
        return made

    def numbers(self, values: Any, dtype: str = "int32") -> int:
        """A small constant."""
        return self.lowering.constant(np.array(values, dtype), f"{self.stem}.numbers")

    def constant(self, array: np.ndarray, hint: str = "constant") -> int:
        """A tensor that holds an array as it is."""
        return self.lowering.constant(array, f"{self.stem}.{hint}")

    def shape_of(self, tensor: int) -> tuple[Dimension, ...]:
        """The sizes of a tensor of the format."""
        return self.lowering.shapes[tensor]

    def dtype_of(self, tensor: int) -> str:
        """The dtype of a tensor of the format."""
        return self.lowering.tensors[tensor].dtype

    def in_order(self, view: View, order: tuple[int, ...]) -> int:
        """The tensor of a view whose axes lie in a certain order."""
        if view.array is not None:
            return self.lowering.constant(np.transpose(view.array, order), f"{self.stem}.constant")
        if view.permutation is not None:
            view = self.gathered(view)
        return view.tensor if view.order == order else self.lowering.transposed_tensor(view, order, self)

    def moves(self, view: View, order: tuple[int, ...]) -> bool:
        """Whether putting a value's axes in another order moves anything in memory."""
        shape = dict(zip(view.order, self.shape_of(view.tensor)))
        return [axis for axis in view.order if shape[axis] != 1] != [axis for axis in order if shape[axis] != 1]

    def plain(self, view: View) -> int:
        """The tensor of a view with its axes in the graph's order."""
        return self.in_order(view, natural(view.rank))

    def image(self, view: View) -> int:
        """The tensor of an image with its channels last."""
        return self.in_order(view, channels_last(view.rank))

    def unmoved(self, place: int = 0) -> View:
        """An input as it lies in a tensor: a constant in the graph's order, a matrix with its columns as the graph
        counts them."""
        view = self.gathered(self.view(place))
        return view if view.array is None else View(natural(view.rank), self.plain(view))

    def gathered(self, view: View) -> View:
        """A matrix with its columns as the graph counts them."""
        if view.permutation is None:
            return view
        places = self.constant(np.argsort(view.permutation).astype(np.int32), "columns")
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
        """A view in other sizes, row-major in the graph's order of axes."""
        return View(natural(len(sizes)), self.reshape_tensor(self.plain(view), sizes))

    def result(self, tensor: int, order: tuple[int, ...] | None = None) -> View:
        """See `Outcome.result`."""
        return View(order or natural(len(self.shape_of(tensor))), tensor)

    def sizes_in(self, order: tuple[int, ...], place: int = 0) -> tuple[Dimension, ...]:
        """The shape of a result as it lies in an order."""
        return permuted(self.made(place).shape, order)

    def unary(self, operator: str, tensor: int, **options: Any) -> int:
        """An operator that keeps shape and dtype."""
        return self.step(operator, [tensor], self.shape_of(tensor), self.dtype_of(tensor), **options)

    def binary(self, operator: str, one: int, other: int, dtype: Any = None) -> int:
        """An element-wise operation on two tensors that broadcast as they lie."""
        shape = broadcast(self.shape_of(one), self.shape_of(other))
        options = {"activation": 0} if operator in ("ADD", "SUB", "MUL", "DIV") else {}
        return self.step(operator, [one, other], shape, dtype or self.dtype_of(one), **options)

    def number(self, value: float, like: int) -> int:
        """A tensor of one number, of the dtype of another tensor."""
        return self.numbers(value, self.dtype_of(like))


class Lowering:
    """What is made of a graph so far. shapes: of the tensors, sizes as they lie, the batch being open."""

    def __init__(self, graph: Graph):
        self.graph, self.missing = graph, set()
        self.tensors: list[Tensor] = []
        self.operators: list[Operator] = []
        self.shapes: list[tuple[Dimension, ...]] = []
        self.values: dict[str, View] = {}
        self._readers = graph.readers()
        self.quantized: dict[int, int] = {}
        self._turned: dict[tuple, int] = {}
        self._constants: dict[tuple, int] = {}
        self._names: set[str] = set()
        for name in graph.inputs:
            type = graph.types[name]
            self.values[name] = View(natural(type.rank), self.tensor(type.shape, type.dtype, name))
        self.inputs = [self.values[name].tensor for name in graph.inputs]

    def readers(self, name: str) -> list[Node]:
        """The nodes that read a value."""
        return self._readers.get(name, [])

    def view(self, name: str) -> View:
        """A value by its name in the graph."""
        if name not in self.values and name in self.graph.constants:
            array = self.graph.constants[name]
            self.values[name] = View(natural(array.ndim), array=array)
        return self.values[name]

    def tensor(self, shape: Sequence[Dimension], dtype: np.dtype, name: str) -> int:
        """A tensor that an operator makes."""
        dtype = NARROWED.get(np.dtype(dtype), np.dtype(dtype))
        if dtype.name not in COMPUTED:
            raise NotExpressible(f"computes in {dtype.name}")
        sizes = tuple(size.times if isinstance(size, Batch) else int(size) for size in shape)
        opened = tuple(axis for axis, size in enumerate(shape) if isinstance(size, Batch))
        self.tensors.append(Tensor(self._free(name), sizes, dtype.name, opened))
        self.shapes.append(tuple(shape))
        return len(self.tensors) - 1

    def constant(self, array: np.ndarray, name: str) -> int:
        """A tensor that holds numbers; small equal ones are shared."""
        wide = NARROWED.get(array.dtype, array.dtype)
        if wide != array.dtype:
            limits = np.iinfo(wide)
            if array.size and (array.min() < limits.min or array.max() > limits.max):
                raise NotExpressible("has whole numbers of more than 32 bits")
            array = array.astype(wide)
        if array.dtype.name not in COMPUTED:
            raise NotExpressible(f"has a constant of {array.dtype}")
        key = (array.dtype.str, array.shape, array.tobytes()) if array.nbytes <= 4096 else (id(array),)
        if key not in self._constants:
            self.tensors.append(Tensor(self._free(name), tuple(array.shape), array.dtype.name, data=array))
            self.shapes.append(tuple(array.shape))
            self._constants[key] = len(self.tensors) - 1
        return self._constants[key]

    def remember(self, real: int, numbers: np.ndarray, quantization: Quantization) -> None:
        """Adds the stored form of a constant; `fusing` takes it where it can, and widens it where it cannot."""
        name = self._free(f"{self.tensors[real].name}.stored")
        self.tensors.append(
            Tensor(name, tuple(numbers.shape), numbers.dtype.name, data=numbers, quantization=quantization)
        )
        self.shapes.append(tuple(numbers.shape))
        self.quantized[real] = len(self.tensors) - 1

    def _free(self, wanted: str) -> str:
        name = free_name(wanted, self._names)
        self._names.add(name)
        return name

    def add(self, node: Node) -> None:
        """Adds what a node is spelt as. Raises NotExpressible."""
        spelling = SPELLINGS.get(node.operator)
        if spelling is None:
            raise NotExpressible("is no operator of the format")
        before, made = len(self.tensors), spelling(Site(self, node))
        for name, view in zip(node.outputs, made if isinstance(made, list) else [made]):
            self.values[name] = view
            if view.array is None and view.tensor >= before:
                # The value keeps its name, whatever it took to make it.
                self.tensors[view.tensor].name = self._free(name)

    def transposed_tensor(self, view: View, order: tuple[int, ...], site: Site) -> int:
        """The tensor of a view in another order of axes, made once."""
        key = (view.tensor, view.order, order)
        if key not in self._turned:
            shape = dict(zip(view.order, self.shapes[view.tensor]))
            sizes, dtype = [shape[axis] for axis in order], np.dtype(self.tensors[view.tensor].dtype)
            if site.moves(view, order):
                turns = site.numbers([view.order.index(axis) for axis in order])
                made = site.step("TRANSPOSE", [view.tensor, turns], sizes, dtype)
            else:
                made = site.reshape_tensor(view.tensor, sizes)
            self._turned[key] = made
        return self._turned[key]

    def finished(self) -> MobileModel:
        """The model of all that was added. Raises NotExpressible for an output that cannot be given."""
        outputs = []
        for name in self.graph.outputs:
            view, node = self.view(name), Node("Output", (name,), (name,))
            outputs.append(Site(self, node).plain(view))
        model = MobileModel(self.tensors, self.operators, self.inputs, outputs, quantized=self.quantized)
        names = [
            dict(zip(names, numbers))
            for names, numbers in ((self.graph.inputs, self.inputs), (self.graph.outputs, outputs))
        ]
        model.signatures.append(Signature("serving_default", *names))
        return model
