"""Reshapes that an image takes as it lies: each only merges or splits axes that are neighbours in memory too."""

from __future__ import annotations

from collections.abc import Sequence

from zygal.graph import Batch, Dimension
from zygal.sources.layouts.views import LaidOut, View

Group = tuple[list[int], list[int]]


def regrouped(call: LaidOut, view: View, sizes: Sequence[Dimension]) -> View | None:
    """The view with other axes, without moving anything; None where that cannot be. sizes: as the training code counts
    them."""
    shape = call.shape(view)
    if view.permutation is not None or view.order == tuple(range(len(view.order))):
        return None
    groups = _groups(shape, sizes)
    if groups is None:
        return None
    # Axes of size 1 lie wherever one likes; but for that of the images, which may be freed from being 1.
    layout = [axis for axis in view.order if axis == 0 or shape[axis] != 1]
    order: list[int] = []
    placed: set[int] = set()
    for axis in [*layout, *view.order]:
        number = next(at for at, (before, _) in enumerate(groups) if axis in before)
        if number in placed:
            continue
        before, after = groups[number]
        moved = [each for each in before if each == 0 or shape[each] != 1]
        if moved:
            first = layout.index(axis)
            if layout[first : first + len(moved)] != moved:
                return None
        placed.add(number)
        order += after
    return View(call.reshaped(view.name, [sizes[axis] for axis in order]), tuple(order))


def _groups(shape: Sequence[Dimension], sizes: Sequence[Dimension]) -> list[Group] | None:
    """The smallest groups of old axes and new axes, in their order, that hold the same number of elements."""
    groups: list[Group] = []
    old = new = 0
    while old < len(shape) and new < len(sizes):
        before, after, left, right = [old], [new], shape[old], sizes[new]
        old, new = old + 1, new + 1
        while left != right:
            extend_old = _is_less(left, right)
            source, place = (shape, old) if extend_old else (sizes, new)
            if (
                place == len(source)
                or isinstance(source[place], Batch)
                and isinstance(left if extend_old else right, Batch)
            ):
                return None
            if extend_old:
                left, old = left * shape[old], old + 1
                before.append(place)
            else:
                right, new = right * sizes[new], new + 1
                after.append(place)
        groups.append((before, after))
    rest = [*shape[old:], *sizes[new:]]
    if not groups or any(size != 1 for size in rest):
        return None
    groups[-1][0].extend(range(old, len(shape)))
    groups[-1][1].extend(range(new, len(sizes)))
    return groups


def _is_less(left: Dimension, right: Dimension) -> bool:
    """Whether the left side lacks something: the batch, or else a factor."""
    if isinstance(left, Batch) != isinstance(right, Batch):
        return not isinstance(left, Batch)
    return left.times < right.times if isinstance(left, Batch) else left < right
