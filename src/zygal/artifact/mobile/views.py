"""Values of a graph while it becomes a mobile model: as they lie there, channels last above all."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from math import prod

import numpy as np

from zygal.graph import Batch, Dimension
from zygal.mobile.model import Quantization


@dataclass(frozen=True)
class View:
    """A value as the graph counts its axes.

    Axis `p` of the mobile tensor is axis `order[p]` of the graph's value; what the graph transposes changes the order
    alone. array: a constant's numbers in the graph's order; then there is no tensor yet. picks, for a matrix: the
    tensor's column p is the graph's column picks[p]; flattening an image whose channels come last leaves that behind.
    stored: of a constant that is kept in few bits, its stored numbers and what they mean.
    """

    order: tuple[int, ...]
    tensor: int = -1
    array: np.ndarray | None = None
    permutation: np.ndarray | None = None
    quantized: tuple[np.ndarray, Quantization] | None = None

    @property
    def rank(self) -> int:
        """The number of axes."""
        return len(self.order)


def natural(rank: int) -> tuple[int, ...]:
    """The axes in the graph's own order."""
    return tuple(range(rank))


def channels_last(rank: int) -> tuple[int, ...]:
    """The order in which axis 1 comes last."""
    return (0, *range(2, rank), 1)


def permuted(shape: Sequence, order: Sequence[int]) -> tuple:
    """The sizes in another order of axes."""
    return tuple(shape[axis] for axis in order)


def as_it_broadcasts(array: np.ndarray, order: Sequence[int]) -> np.ndarray:
    """A constant for values whose axes lie in an order, without the axes of size 1 that come first."""
    wide = np.transpose(array.reshape((1,) * (len(order) - array.ndim) + array.shape), order)
    first = next((at for at, size in enumerate(wide.shape) if size != 1), len(order) - 1)
    return wide.reshape(wide.shape[first:])


def blocks(before: Sequence[Dimension], after: Sequence[Dimension]) -> list[tuple[list[int], list[int]]] | None:
    """The smallest groups of axes of one shape that become groups of axes of another when it is reshaped; None if there
    is a remainder.

    Axes of size 1 go with whatever is beside them.
    """
    groups: list[tuple[list[int], list[int]]] = []
    left, right = list(range(len(before))), list(range(len(after)))
    while left or right:
        one, other = left[:1], right[:1]
        del left[:1], right[:1]
        while True:
            sizes = _size(before, one), _size(after, other)
            if sizes[0] == sizes[1] and (one and other):
                break
            smaller_left = _less(sizes[0], sizes[1])
            if (smaller_left or not one) and left:
                one.append(left.pop(0))
            elif right:
                other.append(right.pop(0))
            elif left:
                one.append(left.pop(0))
            else:
                break
        groups.append((one, other))
    if any(_size(before, one) != _size(after, other) for one, other in groups):
        return None
    return groups


def _size(shape: Sequence[Dimension], axes: Sequence[int]) -> tuple[int, int]:
    sizes = [shape[axis] for axis in axes]
    return prod(size.times if isinstance(size, Batch) else size for size in sizes), sum(
        isinstance(size, Batch) for size in sizes
    )


def _less(one: tuple[int, int], other: tuple[int, int]) -> bool:
    return (one[1], one[0]) < (other[1], other[0])
