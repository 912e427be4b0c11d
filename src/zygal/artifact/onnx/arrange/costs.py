"""What the runtime takes for moving data, as measured on two threads of one processor; benchmarks/limits.py and
passes.py show the effect.

All in tenths of a nanosecond for each element.
"""

from __future__ import annotations

from collections.abc import Sequence
from math import prod

from zygal.graph import Graph
from zygal.graph.shapes import at_batch

IMAGES = 4
"""The batch for which costs are weighed."""
AXIS_MOVED = 9
"""One axis moved to another place: 0.8 to 1.0 ns."""
_BLOCKS = ((48, 5), (16, 10), (1, 15))
"""Blocks of so many elements or more copied as they are: 0.5, 1.0 and 1.5 ns."""
IN_TWO_STEPS = 22
"""Anything else takes 10 ns in one step, and this much as two."""
ADDED, COPIED, JOINED_WITH_GELU = 4, 6, 5
"""A bias added to a product; a tensor copied with one channel more; what a GELU costs more that the runtime joins with
an addition."""
STARTED = 25_000
"""One more operator: 2.5 microseconds, whatever it works on."""


def elements(graph: Graph, name: str) -> int:
    """How many numbers a value has, at the batch that costs are counted for."""
    return prod(at_batch(graph.types[name].shape, IMAGES))


def transpose_cost(sizes: Sequence[int], order: Sequence[int]) -> int:
    """For each element, of tensors of these sizes."""
    sizes, order = collapsed(sizes, order)
    if len(order) < 2:
        return 0
    if order[-1] == len(order) - 1:
        return next(cost for least, cost in _BLOCKS if sizes[-1] >= least)
    return AXIS_MOVED if moves_one_axis(order) else IN_TWO_STEPS


def moves_one_axis(order: Sequence[int]) -> bool:
    """Whether taking one axis out leaves the others in order."""
    return any(
        [each for each in order if each != axis] == sorted(each for each in order if each != axis) for axis in order
    )


def collapsed(sizes: Sequence[int], order: Sequence[int]) -> tuple[list[int], list[int]]:
    """Sizes and order with axes of size 1 left out, and axes that stay neighbours as one."""
    kept = [axis for axis in order if sizes[axis] != 1]
    groups: list[list[int]] = []
    for axis in kept:
        if groups and all(sizes[between] == 1 for between in range(groups[-1][-1] + 1, axis)) and axis > groups[-1][-1]:
            groups[-1].append(axis)
        else:
            groups.append([axis])
    before = sorted(groups)
    return [prod(sizes[axis] for axis in group) for group in before], [before.index(group) for group in groups]
