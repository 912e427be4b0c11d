"""Moving, repeating and resampling elements along axes."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from zygal.graph import Batch
from zygal.sources.emitter import Emitter

FAR = 2**62
"""Further than any axis is long."""


def rolled(emit: Emitter, x: str, shift: int, axis: int) -> str:
    """What is shifted out at one end of an axis comes in at the other."""
    size = emit.type_of(x).shape[axis]
    if isinstance(size, Batch):
        emit.refuse("rolls the batch")
    shift %= max(size, 1)
    if not shift:
        return x
    ends = emit.step("Slice", x, starts=[size - shift], ends=[size], axes=[axis])
    return emit.step("Concat", ends, emit.step("Slice", x, starts=[0], ends=[size - shift], axes=[axis]), axis=axis)


def reversed_along(emit: Emitter, x: str, axes: Sequence[int]) -> str:
    """A value with some axes reversed."""
    many = len(axes)
    return emit.step("Slice", x, starts=[-1] * many, ends=[-FAR] * many, axes=list(axes), steps=[-1] * many)


def by_matrices(emit: Emitter, x: str, matrices: Sequence[np.ndarray]) -> str:
    """rows @ x @ columns' along the last axes; a single axis is only multiplied from the right."""
    columns = emit.constant(np.ascontiguousarray(matrices[-1].T, np.float32), "columns")
    if len(matrices) == 1:
        return emit.step("MatMul", x, columns)
    rows = emit.constant(matrices[0].astype(np.float32), "rows")
    return emit.step("MatMul", rows, emit.step("MatMul", x, columns))


def enlarged_by_nearest(emit: Emitter, x: str, factors: Sequence[int]) -> str:
    """Every pixel of x [N, C, H, W] as a block of whole size."""
    scales = [1.0, 1.0, *map(float, factors)]
    return emit.step(
        "Resize", x, scales=scales, mode="nearest", coordinate_transformation_mode="asymmetric", nearest_mode="floor"
    )


def resized_by_nearest(emit: Emitter, x: str, places: Sequence[np.ndarray]) -> str:
    """x [N, C, ...] whose pixels along each of the last axes are those at the given places: a block of each pixel where
    that is what they say."""
    first = emit.type_of(x).rank - len(places)
    sizes = [emit.type_of(x).shape[first + axis] for axis in range(len(places))]
    factors = [len(each) // size for each, size in zip(places, sizes)]
    if len(places) == 2 and all(
        np.array_equal(each, np.repeat(np.arange(size), factor)) for each, size, factor in zip(places, sizes, factors)
    ):
        return enlarged_by_nearest(emit, x, factors)
    for axis, (each, size) in enumerate(zip(places, sizes), start=first):
        if not np.array_equal(each, np.arange(size)):
            x = picked(emit, x, each, axis)
    return x


def picked(emit: Emitter, x: str, places: np.ndarray, axis: int) -> str:
    """The elements at known places of an axis."""
    return emit.step("Gather", x, emit.constant(places.astype(np.int64), f"places{axis}"), axis=axis)


def padded_around(emit: Emitter, x: str, begins: Sequence[int], ends: Sequence[int]) -> str:
    """As on a ring: what leaves at one end comes in at the other."""
    for axis, (begin, end) in enumerate(zip(begins, ends)):
        if begin or end:
            size = emit.type_of(x).shape[axis]
            parts = [x]
            if begin:
                parts.insert(0, emit.step("Slice", x, starts=[size - begin], ends=[size], axes=[axis]))
            if end:
                parts.append(emit.step("Slice", x, starts=[0], ends=[end], axes=[axis]))
            x = emit.step("Concat", *parts, axis=axis)
    return x
