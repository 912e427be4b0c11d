"""Freeing a graph from the fixed batch that it was captured with, whichever family it comes from.

The graph is gone through again with a dynamic batch. Where an operator states a size that must grow with the batch,
which axis that is follows from where the images lie in memory; where several could be meant, all are tried, the
likeliest first. Whether a result is right is not decided here: the caller runs it at other batch sizes (see
`zygal.conversion.free_batch`).
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from itertools import islice
from math import prod
from typing import NoReturn

import numpy as np

from zygal.errors import GraphError
from zygal.graph import Batch, Dimension, Graph, GraphBuilder, Node, TensorType
from zygal.graph.shapes import at_batch, shape_text
from zygal.sources.emitter import Emitter
from zygal.sources.recipes.windows import each_image_its_own

MOST_ATTEMPTS = 300
MOST_PROVEN = 24
"""How many graphs are handed out at most: each is run to be proven."""


class Stuck(GraphError):
    """A node cannot take a dynamic batch. The message reads well behind the name of the model."""


def freed_graphs(graph: Graph, batch: int) -> Iterator[Graph]:
    """Graphs that take any number of images and agree with the given one in every shape at `batch` images, likeliest
    first.

    Raises Stuck if the likeliest reading does not fit: at once where no other one does, else after the last one.
    """
    choices, fault = _first_that_fits(graph, batch)
    yield from islice(_readings(graph, batch, choices), MOST_PROVEN)
    if fault is not None:
        raise fault


def _first_that_fits(graph: Graph, batch: int) -> tuple[list[int], Stuck | None]:
    """The choices of the first reading in which every shape fits, the last choice that has another way left being
    changed; and what was wrong with the likeliest one."""
    choices: list[int] = []
    fault = None
    for _ in range(MOST_ATTEMPTS):
        attempt = _Attempt(graph, batch, choices)
        try:
            attempt.run()
            return attempt.taken, fault
        except GraphError as stuck:
            fault = fault or (stuck if isinstance(stuck, Stuck) else Stuck(str(stuck)))
        following = next(
            (at for at in range(len(attempt.taken) - 1, -1, -1) if attempt.taken[at] + 1 < attempt.ways[at]), None
        )
        if following is None:
            break
        choices = [*attempt.taken[:following], attempt.taken[following] + 1]
    raise fault


def _readings(graph: Graph, batch: int, choices: list[int]) -> Iterator[Graph]:
    """The graph by these choices, then with one choice changed, the last ones first."""
    attempt = _Attempt(graph, batch, choices)
    yield attempt.run()
    for at in range(len(attempt.taken) - 1, -1, -1):
        for way in range(attempt.taken[at] + 1, attempt.ways[at]):
            try:
                yield _Attempt(graph, batch, [*attempt.taken[:at], way]).run()
            except GraphError:
                continue


class _Attempt(Emitter):
    """One way through the graph. choices: which of several readings to take, one after the other; the first where none
    is left.

    taken, ways: what was taken at each place where there is a choice, and how many there were.
    """

    def __init__(self, graph: Graph, batch: int, choices: Sequence[int]):
        super().__init__(GraphBuilder(), "", "")
        self._graph, self._batch, self._choices = graph, batch, list(choices)
        self.taken: list[int] = []
        self.ways: list[int] = []

    def refuse(self, why: str) -> NoReturn:
        where = f"layer {self._layer}" if self._layer else "a layer"
        raise Stuck(f"{where} {why}.")

    def run(self) -> Graph:
        for name in self._graph.inputs:
            given = self._graph.types[name]
            self._builder.input(name, TensorType(given.dtype, (Batch(), *given.shape[1:])))
        for name, array in self._graph.constants.items():
            self._builder.constant(name, array)
        for node in self._graph.nodes:
            self._stem, self._layer = node.outputs[0], node.layer
            self._freed(node)
            for output in node.outputs:
                self._check(output)
        return self._builder.finish(self._graph.outputs)

    def _freed(self, node: Node) -> None:
        if not any(self._grows(name) for name in node.inputs if name):
            self._builder.append(node)
            return
        rule = RULES.get(node.operator)
        if rule is not None:
            made = rule(self, node)
            if made is not None:
                if self._builder.rename(made, node.outputs[0]) != node.outputs[0]:
                    self._builder.add("Identity", (made,), node.outputs[0], node.layer)
                return
        self._builder.append(self._with_grown_operands(node))

    def _check(self, name: str) -> None:
        found, wanted = self.type_of(name), self._graph.types[name]
        if at_batch(found.shape, self._batch) != wanted.shape:
            self.refuse(
                f"makes {shape_text(found.shape)}, which at {self._batch} images is not {shape_text(wanted.shape)}"
            )

    def _grows(self, name: str) -> bool:
        return any(isinstance(size, Batch) for size in self.type_of(name).shape)

    def choose(self, ways: int) -> int:
        """Which of so many readings to take."""
        place = len(self.taken)
        self.ways.append(ways)
        self.taken.append(self._choices[place] if place < len(self._choices) else 0)
        return self.taken[-1]

    # Constants that hold one and the same for every image

    def _with_grown_operands(self, node: Node) -> Node:
        axes_of = _GROWING_OPERANDS.get(node.operator)
        if axes_of is None:
            return node
        wanted = axes_of(self, node)
        inputs = [self._grown(name, shape) if name and shape else name for name, shape in zip(node.inputs, wanted)]
        return Node(node.operator, tuple(inputs), node.outputs, node.attributes, node.layer)

    def _grown(self, name: str, wanted: Sequence[Dimension | None]) -> str:
        """A value with multiples of the batch where `wanted` has them and it has a fixed number; None fits anything."""
        for axis, size in enumerate(wanted):
            given = self.type_of(name).shape[axis]
            if isinstance(size, Batch) and given == size.times * self._batch:
                name = self._repeated(name, axis, size.times)
        return name

    def _repeated(self, name: str, axis: int, times: int) -> str:
        array = self.array(name)
        if array is None:
            self.refuse(
                f"joins images with {shape_text(self.type_of(name).shape)}, whose axis {axis} does not grow "
                f"with the batch"
            )
        apart = np.moveaxis(array, axis, 0).reshape(self._batch, times, -1)
        if not (apart == apart[:1]).all():
            self.refuse(f"holds other numbers for each of the {self._batch} images it was captured with")
        one = np.take(array, range(times), axis)
        shape = list(one.shape)
        single = self.constant(one.reshape(*shape[:axis], 1, *shape[axis:]), "of_one_image")
        wide = self.expanded(single, [*shape[:axis], Batch(), *shape[axis:]])
        return self.reshaped(wide, [*shape[:axis], Batch(times), *shape[axis + 1 :]])


def _broadcast_operands(attempt: _Attempt, node: Node) -> list[list[Dimension | None] | None]:
    """What each operand of an element-wise operation must have along the axes on which another one grows."""
    shapes = [attempt.type_of(name).shape for name in node.inputs]
    rank = max(len(shape) for shape in shapes)
    leading: list[Dimension | None] = [None] * rank
    for shape in shapes:
        for axis, size in enumerate(shape, rank - len(shape)):
            if isinstance(size, Batch):
                leading[axis] = size
    return [leading[rank - len(shape) :] for shape in shapes]


def _product_operands(attempt: _Attempt, node: Node) -> list[list[Dimension | None] | None]:
    """Of a matrix product only the axes in front broadcast."""
    wanted = _broadcast_operands(attempt, node)
    return [[*each[:-2], None, None] for each in wanted]


def _joined_operands(attempt: _Attempt, node: Node) -> list[list[Dimension | None] | None]:
    wanted = _broadcast_operands(attempt, node)
    axis = node.attributes["axis"] % len(wanted[0])
    return [[None if at == axis else size for at, size in enumerate(each)] for each in wanted]


def _states(attempt: _Attempt, node: Node) -> list[list[Dimension | None] | None]:
    """First states [directions, N, hidden] of a recurrent layer grow with what it is given [steps, N, inputs]."""
    images = attempt.type_of(node.inputs[0]).shape[1]
    return [[None, images, None] if place > 4 else None for place in range(len(node.inputs))]


def _alike(attempt: _Attempt, node: Node) -> list[list[Dimension | None] | None]:
    """Operands that have the axes of the first."""
    first = attempt.type_of(node.inputs[0]).shape
    grown = [size if isinstance(size, Batch) else None for size in first]
    return [grown[: attempt.type_of(name).rank] if name else None for name in node.inputs]


_ELEMENTWISE = (
    "Add",
    "And",
    "Div",
    "Equal",
    "Greater",
    "GreaterOrEqual",
    "Less",
    "LessOrEqual",
    "Max",
    "Min",
    "Mod",
    "Mul",
    "Or",
    "Pow",
    "PRelu",
    "Sub",
    "Where",
    "Xor",
)
_GROWING_OPERANDS: dict[str, Callable[[_Attempt, Node], list[list[Dimension | None] | None]]] = {
    **dict.fromkeys(_ELEMENTWISE, _broadcast_operands),
    "MatMul": _product_operands,
    "Concat": _joined_operands,
    **dict.fromkeys(("GatherElements", "ScatterElements", "GridSample"), _alike),
    **dict.fromkeys(("LSTM", "GRU", "RNN"), _states),
}
"""Operators whose constant operands may hold the fixed batch, and what shape each must then have."""


def _reshape(attempt: _Attempt, node: Node) -> str:
    """In memory, neighbouring images lie `apart` elements from each other: a whole image where the batch is the outer
    part of its axis, the axes behind it where it is the inner part. The axis that holds the batch then is one whose
    steps divide that distance and which reaches over all images; one of just the batch's size is the likeliest."""
    x, batch = node.inputs[0], attempt._batch
    given, sizes = attempt.type_of(x).shape, list(attempt._graph.types[node.outputs[0]].shape)
    position = next(axis for axis, size in enumerate(given) if isinstance(size, Batch))
    inner = prod(given[position + 1 :])
    candidates = []
    for apart in (inner * given[position].times, inner):
        for axis, size in enumerate(sizes):
            step = prod(sizes[axis + 1 :])
            fits = size % batch == 0 and apart % step == 0 and step * size % (apart * batch) == 0
            if fits and axis not in candidates:
                candidates.append(axis)
    if not candidates:
        attempt.refuse(f"reshapes to {sizes}, which fixes the batch size to {batch}, as it was captured")
    candidates.sort(key=lambda axis: sizes[axis] != batch)
    axis = candidates[attempt.choose(len(candidates))] if len(candidates) > 1 else candidates[0]
    return attempt.step("Reshape", x, shape=[-1 if at == axis else size for at, size in enumerate(sizes)])


def _expand(attempt: _Attempt, node: Node) -> str:
    """Where the value grows, what it is repeated to grows with it."""
    x, sizes = node.inputs[0], list(attempt._graph.types[node.outputs[0]].shape)
    shape = attempt.type_of(x).shape
    for axis, size in enumerate(shape, len(sizes) - len(shape)):
        if isinstance(size, Batch):
            sizes[axis] = size
    return attempt.expanded(x, sizes)


def _slice(attempt: _Attempt, node: Node) -> str | None:
    """A slice that leaves all images it was captured with leaves all images."""
    x, fixed = node.inputs[0], attempt._graph.types[node.inputs[0]].shape
    attributes = dict(node.attributes)
    axes = attributes.get("axes") or range(len(attributes["starts"]))
    steps = attributes.get("steps") or [1] * len(axes)
    kept = []
    for start, end, axis, step in zip(attributes["starts"], attributes["ends"], axes, steps, strict=True):
        if isinstance(attempt.type_of(x).shape[axis], Batch):
            if slice(start, end, step).indices(fixed[axis]) != (0, fixed[axis], 1):
                attempt.refuse("cuts the batch")
            continue
        kept.append((start, end, axis, step))
    if not kept:
        return attempt.step("Identity", x)
    starts, ends, axes, steps = map(list, zip(*kept))
    return attempt.step("Slice", x, starts=starts, ends=ends, axes=axes, steps=steps)


def _gather(attempt: _Attempt, node: Node) -> str | None:
    """Picking all images in their order is picking none."""
    x, places = node.inputs
    axis = node.attributes.get("axis", 0)
    if not isinstance(attempt.type_of(x).shape[axis], Batch):
        return None
    array, size = attempt.array(places), attempt._graph.types[x].shape[axis]
    if array is None or array.ndim != 1 or not np.array_equal(array % size, np.arange(size)):
        attempt.refuse("picks images from the batch")
    return attempt.step("Identity", x)


def _convolution(attempt: _Attempt, node: Node) -> str | None:
    """Images side by side as groups of channels, each with kernels of its own."""
    channels = attempt.type_of(node.inputs[0]).shape[1]
    if not isinstance(channels, Batch):
        return None
    groups, rest = divmod(node.attributes.get("group", 1), attempt._batch)
    if rest or not groups:
        attempt.refuse("mixes the images of a batch")
    strides, pads, dilations = (list(node.attributes[name]) for name in ("strides", "pads", "dilations"))
    return each_image_its_own(attempt, node.inputs, Batch(groups), strides, pads, dilations)


RULES: dict[str, Callable[[_Attempt, Node], str | None]] = {
    "Reshape": _reshape,
    "Expand": _expand,
    "Slice": _slice,
    "Gather": _gather,
    "Conv": _convolution,
}
"""Operators that state sizes of their own. A rule gives the value that takes the result's place, or None for the node
as it is."""
