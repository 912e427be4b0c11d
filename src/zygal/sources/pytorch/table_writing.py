"""ATen operators that write some elements of a tensor and keep the others."""

from __future__ import annotations

import numpy as np

from zygal.graph import Batch
from zygal.sources.pytorch.calls import Site, aten
from zygal.sources.pytorch.table_indexing import whole_batch


def replaced(call: Site, x: str, part: str, axis: int, places: np.ndarray) -> str:
    """x with the slices at `places` along an axis replaced by those of `part`, in their order."""
    size = call.type_of(x).shape[axis]
    if isinstance(size, Batch):
        return call.refuse("writes into some images of the batch")
    if call.type_of(part).shape[axis] == size and np.array_equal(places, np.arange(size)):
        return part
    first, count = int(places[0]), len(places)
    if np.array_equal(places, np.arange(first, first + count)):
        pieces = [part]
        if first:
            pieces.insert(0, call.step("Slice", x, starts=[0], ends=[first], axes=[axis]))
        if first + count < size:
            pieces.append(call.step("Slice", x, starts=[first + count], ends=[size], axes=[axis]))
        return call.step("Concat", *pieces, axis=axis)
    taken = np.arange(size)
    taken[places] = size + np.arange(count)
    both = call.step("Concat", x, part, axis=axis)
    return call.step("Gather", both, call.constant(taken, "taken"), axis=axis)


def _axis(call: Site, x: str) -> int:
    return call.plain("dim", 0) % call.type_of(x).rank


@aten("slice_scatter.default")
def write_slice(call: Site):
    x, axis = call.tensor("self"), _axis(call, call.tensor("self"))
    size = call.type_of(x).shape[axis]
    if isinstance(size, Batch):
        if whole_batch(call, call.plain("start"), call.plain("end"), call.plain("step", 1)):
            return call.tensor("src")
        call.refuse("writes into some images of the batch")
    cut = slice(call.plain("start"), call.plain("end"), call.plain("step", 1))
    return replaced(call, x, call.tensor("src"), axis, np.arange(size)[cut])


@aten("select_scatter.default")
def write_one(call: Site):
    x, axis = call.tensor("self"), _axis(call, call.tensor("self"))
    wide = call.step("Unsqueeze", call.tensor("src"), axes=[axis])
    return replaced(call, x, wide, axis, np.array([call.plain("index") % call.type_of(x).shape[axis]]))


@aten("index_copy.default")
def write_at(call: Site):
    x, places = call.tensor("self"), call.known_array("index")
    return replaced(call, x, call.tensor("source"), _axis(call, x), places % call.type_of(x).shape[_axis(call, x)])


@aten("index_fill.int_Scalar")
def fill_at(call: Site):
    x, places = call.tensor("self"), call.known_array("index")
    axis, shape = _axis(call, x), call.type_of(x).shape
    chosen = np.zeros(shape[axis], bool)
    chosen[places] = True
    mask = call.constant(chosen.reshape([-1 if at == axis else 1 for at in range(len(shape))]), "chosen")
    return call.result("Where", mask, call.number(call.plain("value"), x), x)


@aten("scatter.src", "scatter.value", "scatter_add.default")
def scatter(call: Site):
    """To the places that the index says, which may depend on the image."""
    x, index = call.tensor("self"), call.tensor("index")
    shape = call.type_of(index).shape
    if call.is_tensor("src"):
        updates = call.tensor("src")
        for axis, (have, wanted) in enumerate(zip(call.type_of(updates).shape, shape)):
            if have != wanted:
                updates = call.step("Slice", updates, starts=[0], ends=[wanted], axes=[axis])
    else:
        updates = call.expanded(call.number(call.plain("value"), x), list(shape), final=False)
    reduction = "add" if "scatter_add" in call.call.target else "none"
    return call.result("ScatterElements", x, index, updates, axis=call.plain("dim"), reduction=reduction)


@aten("index_put.default", "_unsafe_index_put.default")
def index_put(call: Site):
    """At places that are known beforehand, or by a mask."""
    x, indices, values = call.tensor("self"), call.optional_tensors("indices"), call.tensor("values")
    known = [None if each is None else call.array(each) for each in indices]
    axes = [axis for axis, each in enumerate(indices) if each is not None]
    if any(known[axis] is None for axis in axes):
        return _by_mask(call, x, indices, values)
    held, filling = call.array(x), call.array(values)
    if held is not None and filling is not None:
        made = held.copy()
        place = tuple(slice(None) if array is None else array for array in known)
        if call.plain("accumulate", False):
            np.add.at(made, place, filling)
        else:
            made[place] = filling
        return call.constant(made, "put")
    if call.plain("accumulate", False) or axes != list(range(axes[0], axes[-1] + 1)):
        call.refuse("accumulates at single positions, or writes at positions of several axes, which is not supported")
    return _at_places(call, x, axes, [known[axis] for axis in axes], values)


def _by_mask(call: Site, x: str, indices: list[str | None], values: str) -> str:
    """One value, where a mask over the first axes says so."""
    mask = indices[0]
    single = all(size == 1 for size in call.type_of(values).shape)
    if len(indices) != 1 or not mask or call.type_of(mask).dtype != bool or not single:
        call.refuse("writes to places that depend on the image")
    missing = call.type_of(x).rank - call.type_of(mask).rank
    if missing:
        rank = call.type_of(x).rank
        mask = call.step("Unsqueeze", mask, axes=list(range(rank - missing, rank)))
    if call.type_of(values).rank:
        values = call.reshaped(values, [], final=False)
    return call.result("Where", mask, values, x)


def _at_places(call: Site, x: str, axes: list[int], places: list[np.ndarray], values: str) -> str:
    """Along neighbouring axes as one: the written slices take the place of the old ones."""
    shape = list(call.type_of(x).shape)
    if places[0].dtype == bool:
        places = list(np.nonzero(places[0]))
        axes = list(range(axes[0], axes[0] + len(places)))
    sizes = shape[axes[0] : axes[-1] + 1]
    if any(isinstance(size, Batch) for size in sizes):
        call.refuse("writes into some images of the batch")
    places = np.broadcast_arrays(*[np.mod(p, n) for p, n in zip(places, sizes)])
    flat = np.ravel_multi_index(places, sizes)
    before, after = shape[: axes[0]], shape[axes[-1] + 1 :]
    merged = call.reshaped(x, [*before, int(np.prod(sizes)), *after], final=False)
    wide = call.expanded(values, [*before, *flat.shape, *after], final=False)
    wide = call.reshaped(wide, [*before, flat.size, *after], final=False)
    return call.reshaped(replaced(call, merged, wide, axes[0], flat.reshape(-1)), shape)
