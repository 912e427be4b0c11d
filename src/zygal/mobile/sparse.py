"""Weights that are stored without their zeros: a tree of axes, each dense or a compressed list of places."""

from __future__ import annotations

from collections.abc import Callable
from math import prod
from types import SimpleNamespace

import numpy as np

DENSE, COMPRESSED = 0, 1
MOST_ZEROS = 1000
"""Of so many numbers at most one is stored on average; else the memory would be out of proportion to the file."""


def densified(
    content: np.ndarray,
    dtype: np.dtype,
    shape: tuple[int, ...],
    sparsity: SimpleNamespace,
    damaged: Callable[[str], Exception],
) -> np.ndarray:
    """All numbers of a tensor, the zeros included.

    content: the bytes of those that are stored. The axes are gone through in `traversal_order`; those from len(shape)
    on are the inner sides of blocks, of the axes that `block_map` lists. A compressed axis has for each place of the
    axes before it a segment of indices. Raises what `damaged` makes of a sentence's end.
    """
    order = [] if sparsity.traversal_order is None else sparsity.traversal_order.tolist()
    blocks = [] if sparsity.block_map is None else sparsity.block_map.tolist()
    levels = sparsity.dimensions or []
    if (
        sorted(order) != list(range(len(shape) + len(blocks)))
        or len(levels) != len(order)
        or len(set(blocks)) != len(blocks)
    ):
        raise damaged("lists its axes wrongly")
    if (
        any(not 0 <= axis < len(shape) for axis in blocks)
        or content.size % dtype.itemsize
        or prod(shape) > MOST_ZEROS * (content.size + MOST_ZEROS)
    ):
        raise damaged("has blocks that do not fit its shape")
    values = content.view(dtype.newbyteorder("<"))
    parents, places = np.zeros(1, np.int64), np.zeros((1, 0), np.int64)
    for level in levels:
        parents, places = _descended(level, parents, places, prod(shape), damaged)
    if len(places) != values.size:
        raise damaged(f"stores {values.size} numbers for {len(places)} places")
    sizes = [0] * len(order)
    for axis, level in zip(order, levels):
        sizes[axis] = int(level.dense_size)
    # The index along an axis of blocks is the block's number times the block's side plus the place in it.
    where = {axis: places[:, at] for at, axis in enumerate(order)}
    full = []
    for axis in range(len(shape)):
        index = where[axis]
        if axis in blocks:
            inner = len(shape) + blocks.index(axis)
            index = index * sizes[inner] + where[inner]
        full.append(index)
        if index.size and (index.min() < 0 or index.max() >= shape[axis]):
            raise damaged(f"stores a number outside its shape {list(shape)}")
    made = np.zeros(shape, dtype)
    made[tuple(full)] = values
    return made


def _descended(
    level: SimpleNamespace, parents: np.ndarray, places: np.ndarray, most: int, damaged: Callable[[str], Exception]
):
    """One axis further: the number of each place within its level, and its indices so far."""
    if level.format == DENSE:
        size = int(level.dense_size)
        if size < 1 or len(parents) * size > max(most, 1):
            raise damaged(f"has an axis of {size} places")
        count = len(parents)
        return (
            (parents[:, None] * size + np.arange(size)).reshape(-1),
            np.concatenate([np.repeat(places, size, axis=0), np.tile(np.arange(size), count)[:, None]], axis=1),
        )
    if level.format != COMPRESSED or level.segments is None or level.indices is None:
        raise damaged(f"has an axis of format {level.format}")
    segments = np.asarray(level.segments.values if level.segments.values is not None else (), np.int64)
    indices = np.asarray(level.indices.values if level.indices.values is not None else (), np.int64)
    if len(parents) and (parents.max() + 1 >= len(segments)):
        raise damaged("has too few segments")
    starts, ends = segments[parents], segments[parents + 1]
    if (starts < 0).any() or (ends < starts).any() or (ends > len(indices)).any():
        raise damaged("has segments that do not fit")
    lengths = ends - starts
    if lengths.sum() > max(len(indices), 1):
        raise damaged("has segments that overlap")
    taken = np.repeat(starts - np.concatenate([[0], np.cumsum(lengths)[:-1]]), lengths) + np.arange(lengths.sum())
    return taken, np.concatenate([np.repeat(places, lengths, axis=0), indices[taken][:, None]], axis=1)
