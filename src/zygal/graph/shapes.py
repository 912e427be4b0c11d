"""Dimensions: a number, or a multiple of the batch, and nothing more general than that."""

from __future__ import annotations

from dataclasses import dataclass
from math import prod

import numpy as np


@dataclass(frozen=True)
class Batch:
    """`times` times the batch size N, as a dimension."""

    times: int = 1

    def __str__(self) -> str:
        return "N" if self.times == 1 else f"{self.times}N"

    def __mul__(self, factor: int) -> Batch | int:
        """So many times as much; nothing at all where the factor is 0. The square of the batch is a TypeError."""
        if isinstance(factor, Batch):
            raise TypeError("the square of the batch is not a dimension")
        return Batch(self.times * int(factor)) if factor else 0

    __rmul__ = __mul__

    def __floordiv__(self, divisor: int) -> Batch:
        """The part of it that is still a multiple of the batch, else a TypeError."""
        if isinstance(divisor, Batch) or not divisor or self.times % int(divisor):
            raise TypeError(f"{self} // {divisor} is not a dimension")
        return Batch(self.times // int(divisor))


@dataclass(frozen=True)
class Open:
    """A size that only a run knows, as the height of an image is. Where sizes must be equal, it is taken to fit. name:
    for people."""

    name: str = "?"

    def __str__(self) -> str:
        return self.name


OPEN = Open()
Dimension = int | Batch | Open
Shape = tuple[Dimension, ...]


@dataclass(frozen=True)
class TensorType:
    """What is known of a value before it is computed."""

    dtype: np.dtype
    shape: Shape

    @property
    def rank(self) -> int:
        """The number of axes."""
        return len(self.shape)

    def __str__(self) -> str:
        return f"{self.dtype} {shape_text(self.shape)}"


def shape_text(shape: Shape) -> str:
    """A shape as people write it, like [N, 3, 64, 64]."""
    return "[" + ", ".join(str(dimension) for dimension in shape) + "]"


def fits(first: Dimension, second: Dimension) -> bool:
    """Whether two sizes can be equal, as far as it is known."""
    return first == second or isinstance(first, Open) or isinstance(second, Open)


def is_open(shape: Shape) -> bool:
    """Whether a size is known only when the graph runs."""
    return any(isinstance(size, Open) for size in shape)


def split_size(shape: Shape) -> tuple[int, int]:
    """The number of elements as (fixed factor, power of N)."""
    fixed = prod(d.times if isinstance(d, Batch) else d for d in shape)
    return fixed, sum(isinstance(d, Batch) for d in shape)


def at_batch(shape: Shape, batch: int) -> tuple[int, ...]:
    """The shape at one batch size."""
    return tuple(d.times * batch if isinstance(d, Batch) else d for d in shape)


def broadcast(first: Shape, second: Shape) -> Shape:
    """The shape of an element-wise operation on two shapes, by NumPy's rule. Raises ValueError."""
    rank = max(len(first), len(second))
    pairs = zip((1,) * (rank - len(first)) + first, (1,) * (rank - len(second)) + second)
    result = []
    for left, right in pairs:
        if not fits(left, right) and 1 not in (left, right):
            raise ValueError(f"{shape_text(first)} and {shape_text(second)} cannot be broadcast together")
        result.append(right if left == 1 or isinstance(left, Open) and right != 1 else left)
    return tuple(result)
