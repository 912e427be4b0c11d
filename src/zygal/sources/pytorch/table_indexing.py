"""ATen operators that pick, order and shift elements."""

from __future__ import annotations

import numpy as np

from zygal.graph import Batch, Dimension
from zygal.sources.pytorch.calls import Places, Site, aten
from zygal.sources.recipes.arranging import FAR, reversed_along, rolled

VERY_FAR = 2**40
"""What the framework writes for an end that is not given is at least as far."""


def cut(site: Site, x: str, axis: int, start: int, end: int, step: int = 1) -> str:
    """A slice along one axis; a whole one adds nothing."""
    size = site.type_of(x).shape[axis]
    if isinstance(size, Batch):
        if whole_batch(site, start, end, step):
            return x
        site.refuse("cuts the batch")
    start, end, step = slice(start, end, step).indices(size)
    if (start, end, step) == (0, size, 1):
        return x
    return site.step("Slice", x, starts=[start], ends=[end], axes=[axis], steps=[step])


def whole_batch(site: Site, start: int | None, end: Dimension | None, step: int) -> bool:
    """Whether a slice along the batch leaves all images, however many there are."""
    if start not in (None, 0) or step != 1:
        return False
    return end is None or isinstance(end, Batch) or end >= VERY_FAR


@aten("slice.Tensor")
def slice_(site: Site):
    x = site.tensor("self")
    axis = site.plain("dim", 0) % site.type_of(x).rank
    start, end = site.plain("start", 0) or 0, site.plain("end", FAR)
    end = FAR if end is None or isinstance(end, Batch) else end
    return cut(site, x, axis, start, end, site.plain("step", 1))


@aten("narrow.default")
def narrow(site: Site):
    x = site.tensor("self")
    axis = site.plain("dim") % site.type_of(x).rank
    start = site.plain("start")
    return cut(site, x, axis, start, start + site.plain("length"))


@aten("select.int")
def select(site: Site):
    x, index = site.tensor("self"), site.plain("index")
    axis = site.plain("dim") % site.type_of(x).rank
    size = site.type_of(x).shape[axis]
    if isinstance(size, Batch):
        site.refuse("selects one image of the batch")
    index %= size
    part = cut(site, x, axis, index, index + 1)
    return site.step("Squeeze", part, axes=[axis])


@aten(
    "split.Tensor", "split_with_sizes.default", "split.sizes", "unsafe_split.Tensor", "unsafe_split_with_sizes.default"
)
def split(site: Site):
    x = site.tensor("self")
    axis = site.plain("dim", 0) % site.type_of(x).rank
    size = site.type_of(x).shape[axis]
    if site.has("split_size"):
        step = site.plain("split_size")
        if isinstance(step, list):
            sizes = step
        else:
            sizes = [min(step, size - start) for start in range(0, size, step)]
    else:
        sizes = site.plain("split_sizes")
    return _parts(site, x, axis, sizes)


@aten("chunk.default", "unsafe_chunk.default", "tensor_split.sections")
def chunk(site: Site):
    x = site.tensor("self")
    axis = site.plain("dim", 0) % site.type_of(x).rank
    size = site.type_of(x).shape[axis]
    if isinstance(size, Batch):
        site.refuse("splits the batch")
    if site.has("sections"):
        count = site.plain("sections")
        return _parts(site, x, axis, [size // count + (position < size % count) for position in range(count)])
    step = -(-size // site.plain("chunks"))
    return _parts(site, x, axis, [min(step, size - start) for start in range(0, size, step)])


@aten("tensor_split.indices", "hsplit.int", "hsplit.array", "vsplit.int", "vsplit.array")
def split_at(site: Site):
    x, target = site.tensor("self"), site.target
    axis = site.plain("dim", int("hsplit" in target)) % site.type_of(x).rank
    size, ends = site.type_of(x).shape[axis], site.plain("indices")
    if isinstance(size, Batch):
        site.refuse("splits the batch")
    if ends is None:
        step = size // site.plain("sections")
        ends = list(range(step, size, step))
    ends = [0, *(slice(end).indices(size)[1] for end in ends), size]
    return tuple(cut(site, x, axis, start, max(start, end)) for start, end in zip(ends, ends[1:]))


def _parts(site: Site, x: str, axis: int, sizes: list[int]) -> tuple[str, ...]:
    ends = np.cumsum(sizes).tolist()
    return tuple(cut(site, x, axis, end - size, end) for end, size in zip(ends, sizes))


@aten("unbind.int")
def unbind(site: Site):
    x = site.tensor("self")
    axis = site.plain("dim", 0) % site.type_of(x).rank
    count = site.type_of(x).shape[axis]
    if isinstance(count, Batch):
        site.refuse("splits the batch into images")
    return tuple(site.step("Squeeze", cut(site, x, axis, at, at + 1), axes=[axis]) for at in range(count))


@aten("index_select.default")
def index_select(site: Site):
    return site.step("Gather", site.tensor("self"), site.tensor("index"), axis=site.plain("dim"))


@aten("gather.default", "take_along_dim.default")
def gather(site: Site):
    if "take_along" in site.target:
        x, index, axis = site.tensor("self"), site.tensor("indices"), site.plain("dim")
        if axis is None:
            site.refuse("takes from the flattened tensor, the batch included")
        shapes = [list(site.type_of(each).shape) for each in (x, index)]
        for shape in shapes:
            shape.pop(axis)
        if shapes[0] != shapes[1]:
            site.refuse("repeats its indices or its values, which is not supported")
        return site.step("GatherElements", x, index, axis=axis)
    return site.step("GatherElements", site.tensor("self"), site.tensor("index"), axis=site.plain("dim"))


@aten("embedding.default")
def embedding(site: Site):
    return site.step("Gather", site.tensor("weight"), site.tensor("indices"), axis=0)


@aten("index.Tensor", "_unsafe_index.Tensor")
def index(site: Site):
    """Indexing by tensors. Several of them that are known beforehand pick along one flattened axis."""
    x, indices = site.tensor("self"), site.optional_tensors("indices")
    axes = [axis for axis, each in enumerate(indices) if each is not None]
    if any(isinstance(each, Places) for each in indices):
        return _each_axis_by_itself(site, x, indices)
    arrays = [site.array(indices[axis]) for axis in axes]
    if any(array is None and site.type_of(indices[axis]).dtype == bool for axis, array in zip(axes, arrays)):
        site.refuse("picks as many elements as a mask says, which depends on the image")
    table = site.array(x)
    if table is not None and not any(array is None for array in arrays):
        return site.constant(table[tuple(slice(None) if e is None else site.array(e) for e in indices)], "picked")
    if len(arrays) == 1 and arrays[0] is not None and arrays[0].dtype == bool:
        # A mask over neighbouring axes picks what its true elements' places pick.
        arrays = list(np.nonzero(arrays[0]))
        axes = list(range(axes[0], axes[0] + len(arrays)))
        indices = [None] * axes[0] + [site.constant(array, "place") for array in arrays]
    if len(axes) == 1:
        chosen = indices[axes[0]]
        if arrays[0] is not None:
            size = site.type_of(x).shape[axes[0]]
            chosen = site.constant(np.mod(arrays[0], size).astype(np.int64), "index")
        return site.step("Gather", x, chosen, axis=axes[0])
    if axes != list(range(axes[0], axes[-1] + 1)) or any(array is None for array in arrays):
        site.refuse("indices several axes by what depends on the image")
    shape = site.type_of(x).shape
    sizes = shape[axes[0] : axes[-1] + 1]
    if any(isinstance(size, Batch) for size in sizes) or any(array.dtype == bool for array in arrays):
        site.refuse("selects images of the batch, or by a mask and something else")
    flat = np.ravel_multi_index([np.mod(a, s) for a, s in zip(np.broadcast_arrays(*arrays), sizes)], sizes)
    merged = site.reshaped(x, [*shape[: axes[0]], int(np.prod(sizes)), *shape[axes[-1] + 1 :]])
    return site.step("Gather", merged, site.constant(flat.astype(np.int64), "index"), axis=axes[0])


def _each_axis_by_itself(site: Site, x: str, indices: list) -> str:
    """All images, and of the axes behind them what indices pick of which each varies along its own axis alone: so an
    upsampling is indexed that a release took apart."""
    places, *others = indices
    arrays = [site.array(each) if isinstance(each, str) else None for each in others]
    apart = isinstance(places, Places) and places.rank == len(indices)
    if not apart or not all(_varies_along(array, axis, len(indices)) for axis, array in enumerate(arrays, 1)):
        site.refuse("selects images of the batch")
    for axis, array in enumerate(arrays, 1):
        size = site.type_of(x).shape[axis]
        chosen = np.mod(array.reshape(-1), size).astype(np.int64)
        if not np.array_equal(chosen, np.arange(size)):
            x = site.step("Gather", x, site.constant(chosen, "index"), axis=axis)
    return x


def _varies_along(array: np.ndarray | None, axis: int, rank: int) -> bool:
    """Whether an index is known, has so many axes, and is longer than 1 along one of them alone."""
    known = array is not None and array.dtype != bool and array.ndim == rank
    return known and all(size == 1 for at, size in enumerate(array.shape) if at != axis)


@aten("nonzero.default", "nonzero_numpy.default")
def places_of_truth(site: Site):
    """The places of all elements that are not zero, of what is known beforehand."""
    positions = np.nonzero(site.known_array("self"))
    if "numpy" in site.target:
        return tuple(site.constant(each, f"axis{at}") for at, each in enumerate(positions))
    return site.constant(np.stack(positions, 1), "places")


@aten("roll.default")
def roll(site: Site):
    x = site.tensor("self")
    shifts, axes = site.plain("shifts"), site.plain("dims", [])
    if not axes:
        site.refuse("rolls the flattened tensor, the batch included")
    for shift, axis in zip([shifts] if isinstance(shifts, int) else shifts, axes):
        x = rolled(site, x, shift, axis % site.type_of(x).rank)
    return site.step("Identity", x)


@aten("flip.default")
def flip(site: Site):
    x = site.tensor("self")
    return reversed_along(site, x, [axis % site.type_of(x).rank for axis in site.plain("dims")])


@aten("diagonal.default")
def diagonal(site: Site):
    """As a new last axis: picked from the two axes taken as one."""
    x = site.tensor("self")
    shape, rank = site.type_of(x).shape, site.type_of(x).rank
    first, second = (site.plain(name, default) % rank for name, default in (("dim1", 0), ("dim2", 1)))
    sizes = shape[first], shape[second]
    if any(isinstance(size, Batch) for size in sizes):
        site.refuse("takes a diagonal through the batch")
    positions = np.diagonal(np.arange(sizes[0] * sizes[1]).reshape(sizes), site.plain("offset", 0))
    others = [axis for axis in range(rank) if axis not in (first, second)]
    turned = site.step("Transpose", x, perm=[*others, first, second])
    flat = site.reshaped(turned, [*(shape[axis] for axis in others), sizes[0] * sizes[1]])
    return site.step("Gather", flat, site.constant(positions.copy(), "places"), axis=len(others))


@aten("trace.default")
def trace(site: Site):
    x = site.tensor("self")
    if any(isinstance(size, Batch) for size in site.type_of(x).shape):
        site.refuse("takes a diagonal through the batch")
    return site.step("ReduceSum", diagonal(site), axes=[0], keepdims=0)


@aten("diag_embed.default")
def on_diagonal(site: Site):
    x = site.tensor("self")
    rank, size = site.type_of(x).rank, site.type_of(x).shape[-1]
    if (site.plain("offset", 0), site.plain("dim1", -2), site.plain("dim2", -1)) != (0, -2, -1):
        site.refuse("fills a diagonal beside the main one, which is not supported")
    eye = site.constant(np.eye(size, dtype=site.type_of(x).dtype), "eye")
    return site.step("Mul", site.step("Unsqueeze", x, axes=[rank]), eye)


@aten("rot90.default")
def turn_quarters(site: Site):
    x, count = site.tensor("self"), site.plain("k", 1) % 4
    rank = site.type_of(x).rank
    first, second = (axis % rank for axis in site.plain("dims", [0, 1]))
    flips = {1: [second], 2: [first, second], 3: [first]}.get(count, [])
    if flips:
        x = site.step(
            "Slice", x, starts=[-1] * len(flips), ends=[-FAR] * len(flips), axes=flips, steps=[-1] * len(flips)
        )
    order = list(range(rank))
    if count % 2:
        order[first], order[second] = second, first
    return site.step("Transpose", x, perm=order)


@aten("repeat_interleave.self_Tensor")
def repeat_each_as_often(site: Site):
    """Every element as often as a tensor says, which must be known beforehand."""
    x, times = site.tensor("self"), site.known_array("repeats")
    axis = site.plain("dim", 0) % site.type_of(x).rank
    picked = np.repeat(np.arange(site.type_of(x).shape[axis]), times)
    return site.step("Gather", x, site.constant(picked, "picked"), axis=axis)


@aten("one_hot.default")
def one_hot(site: Site):
    x, count = site.tensor("self"), site.plain("num_classes", -1)
    if count < 0:
        site.refuse("counts classes by what is in the image")
    wide = site.step("Unsqueeze", x, axes=[site.type_of(x).rank])
    equal = site.step("Equal", wide, site.constant(np.arange(count), "classes"))
    return site.step("Cast", equal, to="int64")
