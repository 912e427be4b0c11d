"""ATen operators that write some elements of a tensor and keep the others."""

from __future__ import annotations

import numpy as np

from zygal.graph import Batch
from zygal.sources.pytorch.calls import Places, Site, aten
from zygal.sources.pytorch.table_indexing import whole_batch


def replaced(site: Site, x: str, part: str, axis: int, places: np.ndarray) -> str:
    """x with the slices at `places` along an axis replaced by those of `part`, in their order."""
    size = site.type_of(x).shape[axis]
    if isinstance(size, Batch):
        return site.refuse("writes into some images of the batch")
    if site.type_of(part).shape[axis] == size and np.array_equal(places, np.arange(size)):
        return part
    first, count = int(places[0]), len(places)
    if np.array_equal(places, np.arange(first, first + count)):
        pieces = [part]
        if first:
            pieces.insert(0, site.step("Slice", x, starts=[0], ends=[first], axes=[axis]))
        if first + count < size:
            pieces.append(site.step("Slice", x, starts=[first + count], ends=[size], axes=[axis]))
        return site.step("Concat", *pieces, axis=axis)
    taken = np.arange(size)
    taken[places] = size + np.arange(count)
    both = site.step("Concat", x, part, axis=axis)
    return site.step("Gather", both, site.constant(taken, "taken"), axis=axis)


def _axis(site: Site, x: str) -> int:
    return site.plain("dim", 0) % site.type_of(x).rank


@aten("slice_scatter.default")
def write_slice(site: Site):
    x, axis = site.tensor("self"), _axis(site, site.tensor("self"))
    size = site.type_of(x).shape[axis]
    if isinstance(size, Batch):
        if whole_batch(site, site.plain("start"), site.plain("end"), site.plain("step", 1)):
            return site.tensor("src")
        site.refuse("writes into some images of the batch")
    cut = slice(site.plain("start"), site.plain("end"), site.plain("step", 1))
    return replaced(site, x, site.tensor("src"), axis, np.arange(size)[cut])


@aten("select_scatter.default")
def write_one(site: Site):
    x, axis = site.tensor("self"), _axis(site, site.tensor("self"))
    wide = site.step("Unsqueeze", site.tensor("src"), axes=[axis])
    return replaced(site, x, wide, axis, np.array([site.plain("index") % site.type_of(x).shape[axis]]))


@aten("index_copy.default")
def write_at(site: Site):
    x, places = site.tensor("self"), site.known_array("index")
    return replaced(site, x, site.tensor("source"), _axis(site, x), places % site.type_of(x).shape[_axis(site, x)])


@aten("index_fill.int_Scalar")
def fill_at(site: Site):
    x, places = site.tensor("self"), site.known_array("index")
    axis, shape = _axis(site, x), site.type_of(x).shape
    chosen = np.zeros(shape[axis], bool)
    chosen[places] = True
    mask = site.constant(chosen.reshape([-1 if at == axis else 1 for at in range(len(shape))]), "chosen")
    return site.step("Where", mask, site.number(site.plain("value"), x), x)


@aten("scatter.src", "scatter.value", "scatter_add.default")
def scatter(site: Site):
    """To the places that the index says, which may depend on the image."""
    x, index = site.tensor("self"), site.tensor("index")
    shape = site.type_of(index).shape
    if site.is_tensor("src"):
        updates = site.tensor("src")
        for axis, (have, wanted) in enumerate(zip(site.type_of(updates).shape, shape)):
            if have != wanted:
                updates = site.step("Slice", updates, starts=[0], ends=[wanted], axes=[axis])
    else:
        updates = site.expanded(site.number(site.plain("value"), x), list(shape))
    reduction = "add" if "scatter_add" in site.target else "none"
    return site.step("ScatterElements", x, index, updates, axis=site.plain("dim"), reduction=reduction)


@aten("index_put.default", "_unsafe_index_put.default")
def index_put(site: Site):
    """At places that are known beforehand, or by a mask."""
    x, indices, values = site.tensor("self"), site.optional_tensors("indices"), site.tensor("values")
    if any(isinstance(each, Places) for each in indices):
        site.refuse("writes by the places of the images")
    known = [None if each is None else site.array(each) for each in indices]
    axes = [axis for axis, each in enumerate(indices) if each is not None]
    if any(known[axis] is None for axis in axes):
        return _by_mask(site, x, indices, values)
    target_array, filling = site.array(x), site.array(values)
    if target_array is not None and filling is not None:
        made = target_array.copy()
        position = tuple(slice(None) if array is None else array for array in known)
        if site.plain("accumulate", False):
            np.add.at(made, position, filling)
        else:
            made[position] = filling
        return site.constant(made, "put")
    if site.plain("accumulate", False) or axes != list(range(axes[0], axes[-1] + 1)):
        site.refuse("accumulates at single positions, or writes at positions of several axes, which is not supported")
    return _at_places(site, x, axes, [known[axis] for axis in axes], values)


def _by_mask(site: Site, x: str, indices: list[str | None], values: str) -> str:
    """One value, where a mask over the first axes says so."""
    mask = indices[0]
    single = all(size == 1 for size in site.type_of(values).shape)
    if len(indices) != 1 or not mask or site.type_of(mask).dtype != bool or not single:
        site.refuse("writes to places that depend on the image")
    missing = site.type_of(x).rank - site.type_of(mask).rank
    if missing:
        rank = site.type_of(x).rank
        mask = site.step("Unsqueeze", mask, axes=list(range(rank - missing, rank)))
    if site.type_of(values).rank:
        values = site.reshaped(values, [])
    return site.step("Where", mask, values, x)


def _at_places(site: Site, x: str, axes: list[int], places: list[np.ndarray], values: str) -> str:
    """Along neighbouring axes as one: the written slices take the place of the old ones."""
    shape = list(site.type_of(x).shape)
    if places[0].dtype == bool:
        places = list(np.nonzero(places[0]))
        axes = list(range(axes[0], axes[0] + len(places)))
    sizes = shape[axes[0] : axes[-1] + 1]
    if any(isinstance(size, Batch) for size in sizes):
        site.refuse("writes into some images of the batch")
    places = np.broadcast_arrays(*[np.mod(p, n) for p, n in zip(places, sizes)])
    flat = np.ravel_multi_index(places, sizes)
    before, after = shape[: axes[0]], shape[axes[-1] + 1 :]
    merged = site.reshaped(x, [*before, int(np.prod(sizes)), *after])
    wide = site.expanded(values, [*before, *flat.shape, *after])
    wide = site.reshaped(wide, [*before, flat.size, *after])
    return site.reshaped(replaced(site, merged, wide, axes[0], flat.reshape(-1)), shape)
