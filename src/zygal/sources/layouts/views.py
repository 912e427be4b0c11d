"""Values whose axes may lie in another order than the training code counts them: images with their channels last, above
all."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from math import prod
from typing import Any

import numpy as np

from zygal.graph import Batch
from zygal.sources.emitter import Emitter

MOST_ELEMENTS = 1 << 28


@dataclass(frozen=True)
class View:
    """A value as the training code counts its axes.

    Axis `p` of the graph's value `name` is axis `order[p]` of the training code's tensor, so that images whose
    channels come last can lie as convolutions need them. `permutation`, for a matrix, says which column of the
    value is each column of the training code's: what flattening such an image leaves behind. `origin`, for a
    matrix of pixels, is the image that it was reshaped from: what is done to rows can be done there.
    """

    name: str
    order: tuple[int, ...]
    permutation: np.ndarray | None = None
    origin: View | None = None


class LaidOut(Emitter):
    """An emitter for training code that counts the axes of images otherwise than convolutions need them."""

    def rank(self, view: View) -> int:
        """The number of axes of a view."""
        return len(view.order)

    def check_size(self, sizes) -> None:
        """Refuses sizes at which what only the configuration says would take memory beyond reason."""
        if prod(size for size in sizes if isinstance(size, int)) > MOST_ELEMENTS:
            self.refuse(f"works on {' x '.join(map(str, sizes))} numbers, too many for an image")

    def shape(self, view: View) -> tuple:
        """The sizes as the training code counts them."""
        sizes = self.type_of(view.name).shape
        made: list = [None] * len(sizes)
        for position, axis in enumerate(view.order):
            made[axis] = sizes[position]
        return tuple(made)

    def in_order(self, view: View, order: tuple[int, ...]) -> str:
        """The value with its axes in a certain order."""
        name = self.gathered(view)
        if view.order == order:
            return name
        sizes = dict(zip(view.order, self.type_of(name).shape))
        if [axis for axis in view.order if sizes[axis] != 1] == [axis for axis in order if sizes[axis] != 1]:
            return self.reshaped(name, [sizes[axis] for axis in order])  # Nothing moves in memory.
        return self.step("Transpose", name, perm=[view.order.index(axis) for axis in order])

    def plain(self, view: View) -> str:
        """The value with its axes as the training code counts them."""
        return self.in_order(view, tuple(range(len(view.order))))

    def gathered(self, view: View) -> str:
        """The value's name, its columns in the training code's order."""
        if view.permutation is None:
            return view.name
        return self.step("Gather", view.name, self.constant(view.permutation, "columns"), axis=1)

    @property
    def channels_last(self) -> bool:
        """Whether the channels of the layer's images are counted last."""
        return True

    def image(self, view: View) -> tuple[str, tuple[int, ...], list[int]]:
        """The value as [N, C, ...], the order that this is, and its fixed spatial sizes."""
        order = self.image_order(len(view.order))
        name = self.in_order(view, order)
        sizes = list(self.type_of(name).shape[2:])
        if len(order) < 3 or not all(isinstance(size, int) for size in self.type_of(name).shape[1:]):
            self.refuse(f"works on images, but is given {list(map(str, self.shape(view)))}")
        return name, order, sizes

    def image_order(self, rank: int) -> tuple[int, ...]:
        """The order of axes in which the channels of this layer's images come second."""
        return (0, rank - 1, *range(1, rank - 1)) if self.channels_last else tuple(range(rank))

    def named_view(self, name: str, order: tuple[int, ...] | None = None) -> View:
        """A value as a view; its axes in their own order unless given."""
        return View(name, order or tuple(range(self.type_of(name).rank)))

    def elementwise(self, view: View, function: Callable[[str], str]) -> View:
        """A function of every element by itself: neither order matters."""
        return View(function(view.name), view.order, view.permutation)

    def together(self, views: list[View]) -> tuple[list[str], View]:
        """Values in one order for an operation that broadcasts, and a view that stands for its result."""
        rank = max(len(view.order) for view in views)
        widest = [view for view in views if len(view.order) == rank]
        lead = next((view for view in widest if self.array(view.name) is None), widest[0])
        same = all(_equal(view.permutation, lead.permutation) and view.order == lead.order for view in views)
        if same:
            return [view.name for view in views], lead
        if lead.permutation is not None:
            lead = View(self.gathered(lead), lead.order)
        names = []
        for view in views:
            if view is lead:
                names.append(view.name)
                continue
            if not view.order:  # A single number broadcasts as it is.
                names.append(view.name)
                continue
            name, order = self.gathered(view), view.order
            missing = rank - len(order)
            if missing:
                name = self.step("Unsqueeze", self.plain(View(name, order)), axes=list(range(missing)))
                order = tuple(range(rank))
            names.append(self.in_order(View(name, order), lead.order))
        return names, lead

    def constant_view(self, value: Any, like: View) -> View:
        """A number or nested lists of numbers as a value of the dtype of another."""
        array = np.asarray(value, self.type_of(like.name).dtype)
        return self.named_view(self.constant(array, "number"))


def is_batch(size: Any) -> bool:
    """Whether a size is a multiple of the batch."""
    return isinstance(size, Batch)


def _equal(first: np.ndarray | None, second: np.ndarray | None) -> bool:
    if first is None or second is None:
        return first is second
    return np.array_equal(first, second)
