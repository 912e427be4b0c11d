"""ATen operators that pick, order and shift elements."""

from __future__ import annotations

import numpy as np

from zygal.graph import Batch, Dimension
from zygal.sources.pytorch.calls import Site, aten

FAR = 2**62
VERY_FAR = 2**40
"""What the framework writes for an end that is not given is at least as far."""


def cut(call: Site, x: str, axis: int, start: int, end: int, step: int = 1, final: bool = False) -> str:
    """A slice along one axis; a whole one adds nothing."""
    size = call.type_of(x).shape[axis]
    if isinstance(size, Batch):
        if whole_batch(call, start, end, step):
            return x
        call.refuse("cuts the batch")
    start, end, step = slice(start, end, step).indices(size)
    if (start, end, step) == (0, size, 1):
        return call.result("Identity", x) if final else x
    add = call.result if final else call.step
    return add("Slice", x, starts=[start], ends=[end], axes=[axis], steps=[step])


def whole_batch(call: Site, start: int | None, end: Dimension | None, step: int) -> bool:
    """Whether a slice along the batch leaves all images, however many there are."""
    if start not in (None, 0) or step != 1:
        return False
    return end is None or isinstance(end, Batch) or end >= VERY_FAR or end == (call.captured_batch or VERY_FAR)


@aten("slice.Tensor")
def slice_(call: Site):
    x = call.tensor("self")
    axis = call.plain("dim", 0) % call.type_of(x).rank
    start, end = call.plain("start", 0) or 0, call.plain("end", FAR)
    end = FAR if end is None or isinstance(end, Batch) else end
    return cut(call, x, axis, start, end, call.plain("step", 1), final=True)


@aten("narrow.default")
def narrow(call: Site):
    x = call.tensor("self")
    axis = call.plain("dim") % call.type_of(x).rank
    start = call.plain("start")
    return cut(call, x, axis, start, start + call.plain("length"), final=True)


@aten("select.int")
def select(call: Site):
    x, index = call.tensor("self"), call.plain("index")
    axis = call.plain("dim") % call.type_of(x).rank
    size = call.type_of(x).shape[axis]
    if isinstance(size, Batch):
        call.refuse("selects one image of the batch")
    index %= size
    part = cut(call, x, axis, index, index + 1)
    return call.result("Squeeze", part, axes=[axis])


@aten(
    "split.Tensor", "split_with_sizes.default", "split.sizes", "unsafe_split.Tensor", "unsafe_split_with_sizes.default"
)
def split(call: Site):
    x = call.tensor("self")
    axis = call.plain("dim", 0) % call.type_of(x).rank
    size = call.type_of(x).shape[axis]
    if call.has("split_size"):
        step = call.plain("split_size")
        if isinstance(step, list):
            sizes = step
        else:
            sizes = [min(step, size - start) for start in range(0, size, step)]
    else:
        sizes = call.plain("split_sizes")
    return _parts(call, x, axis, sizes)


@aten("chunk.default", "unsafe_chunk.default", "tensor_split.sections")
def chunk(call: Site):
    x = call.tensor("self")
    axis = call.plain("dim", 0) % call.type_of(x).rank
    size = call.type_of(x).shape[axis]
    if isinstance(size, Batch):
        call.refuse("splits the batch")
    if call.has("sections"):
        count = call.plain("sections")
        return _parts(call, x, axis, [size // count + (place < size % count) for place in range(count)])
    step = -(-size // call.plain("chunks"))
    return _parts(call, x, axis, [min(step, size - start) for start in range(0, size, step)])


@aten("tensor_split.indices", "hsplit.int", "hsplit.array", "vsplit.int", "vsplit.array")
def split_at(call: Site):
    x, target = call.tensor("self"), call.call.target
    axis = call.plain("dim", int("hsplit" in target)) % call.type_of(x).rank
    size, ends = call.type_of(x).shape[axis], call.plain("indices")
    if isinstance(size, Batch):
        call.refuse("splits the batch")
    if ends is None:
        step = size // call.plain("sections")
        ends = list(range(step, size, step))
    ends = [0, *(slice(end).indices(size)[1] for end in ends), size]
    return tuple(cut(call, x, axis, start, max(start, end)) for start, end in zip(ends, ends[1:]))


def _parts(call: Site, x: str, axis: int, sizes: list[int]) -> tuple[str, ...]:
    ends = np.cumsum(sizes).tolist()
    return tuple(cut(call, x, axis, end - size, end) for end, size in zip(ends, sizes))


@aten("unbind.int")
def unbind(call: Site):
    x = call.tensor("self")
    axis = call.plain("dim", 0) % call.type_of(x).rank
    count = call.type_of(x).shape[axis]
    if isinstance(count, Batch):
        call.refuse("splits the batch into images")
    return tuple(call.step("Squeeze", cut(call, x, axis, at, at + 1), axes=[axis]) for at in range(count))


@aten("index_select.default")
def index_select(call: Site):
    return call.result("Gather", call.tensor("self"), call.tensor("index"), axis=call.plain("dim"))


@aten("gather.default", "take_along_dim.default")
def gather(call: Site):
    if "take_along" in call.call.target:
        x, index, axis = call.tensor("self"), call.tensor("indices"), call.plain("dim")
        if axis is None:
            call.refuse("takes from the flattened tensor, the batch included")
        shapes = [list(call.type_of(each).shape) for each in (x, index)]
        for shape in shapes:
            shape.pop(axis)
        if shapes[0] != shapes[1]:
            call.refuse("repeats its indices or its values, which is not supported")
        return call.result("GatherElements", x, index, axis=axis)
    return call.result("GatherElements", call.tensor("self"), call.tensor("index"), axis=call.plain("dim"))


@aten("embedding.default")
def embedding(call: Site):
    return call.result("Gather", call.tensor("weight"), call.tensor("indices"), axis=0)


@aten("index.Tensor", "_unsafe_index.Tensor")
def index(call: Site):
    """Indexing by tensors. Several of them that are known beforehand pick along one flattened axis."""
    x, indices = call.tensor("self"), call.optional_tensors("indices")
    axes = [axis for axis, each in enumerate(indices) if each is not None]
    arrays = [call.array(indices[axis]) for axis in axes]
    if any(array is None and call.type_of(indices[axis]).dtype == bool for axis, array in zip(axes, arrays)):
        call.refuse("picks as many elements as a mask says, which depends on the image")
    held = call.array(x)
    if held is not None and not any(array is None for array in arrays):
        return call.constant(held[tuple(slice(None) if e is None else call.array(e) for e in indices)], "picked")
    if len(arrays) == 1 and arrays[0] is not None and arrays[0].dtype == bool:
        # A mask over neighbouring axes picks what its true elements' places pick.
        arrays = list(np.nonzero(arrays[0]))
        axes = list(range(axes[0], axes[0] + len(arrays)))
        indices = [None] * axes[0] + [call.constant(array, "place") for array in arrays]
    if len(axes) == 1:
        chosen = indices[axes[0]]
        if arrays[0] is not None:
            size = call.type_of(x).shape[axes[0]]
            chosen = call.constant(np.mod(arrays[0], size).astype(np.int64), "index")
        return call.result("Gather", x, chosen, axis=axes[0])
    if axes != list(range(axes[0], axes[-1] + 1)) or any(array is None for array in arrays):
        call.refuse("indexes several axes by what depends on the image")
    shape = call.type_of(x).shape
    sizes = shape[axes[0] : axes[-1] + 1]
    if any(isinstance(size, Batch) for size in sizes) or any(array.dtype == bool for array in arrays):
        call.refuse("selects images of the batch, or by a mask and something else")
    flat = np.ravel_multi_index([np.mod(a, s) for a, s in zip(np.broadcast_arrays(*arrays), sizes)], sizes)
    merged = call.reshaped(x, [*shape[: axes[0]], int(np.prod(sizes)), *shape[axes[-1] + 1 :]], final=False)
    return call.result("Gather", merged, call.constant(flat.astype(np.int64), "index"), axis=axes[0])


@aten("nonzero.default", "nonzero_numpy.default")
def places_of_truth(call: Site):
    """The places of all elements that are not zero, of what is known beforehand."""
    places = np.nonzero(call.known_array("self"))
    if "numpy" in call.call.target:
        return tuple(call.constant(each, f"axis{at}") for at, each in enumerate(places))
    return call.constant(np.stack(places, 1), "places")


@aten("roll.default")
def roll(call: Site):
    """What is shifted out at one end comes in at the other."""
    x = call.tensor("self")
    shifts, axes = call.plain("shifts"), call.plain("dims", [])
    if not axes:
        call.refuse("rolls the flattened tensor, the batch included")
    for shift, axis in zip([shifts] if isinstance(shifts, int) else shifts, axes):
        axis %= call.type_of(x).rank
        size = call.type_of(x).shape[axis]
        if isinstance(size, Batch):
            call.refuse("rolls the batch")
        shift %= size
        if shift:
            parts = cut(call, x, axis, size - shift, size), cut(call, x, axis, 0, size - shift)
            x = call.step("Concat", *parts, axis=axis)
    return call.result("Identity", x)


@aten("flip.default")
def flip(call: Site):
    x = call.tensor("self")
    axes = [axis % call.type_of(x).rank for axis in call.plain("dims")]
    ends = [-FAR] * len(axes)
    return call.result("Slice", x, starts=[-1] * len(axes), ends=ends, axes=axes, steps=[-1] * len(axes))


@aten("diagonal.default")
def diagonal(call: Site):
    """As a new last axis: picked from the two axes taken as one."""
    x = call.tensor("self")
    shape, rank = call.type_of(x).shape, call.type_of(x).rank
    first, second = (call.plain(name, default) % rank for name, default in (("dim1", 0), ("dim2", 1)))
    sizes = shape[first], shape[second]
    if any(isinstance(size, Batch) for size in sizes):
        call.refuse("takes a diagonal through the batch")
    places = np.diagonal(np.arange(sizes[0] * sizes[1]).reshape(sizes), call.plain("offset", 0))
    others = [axis for axis in range(rank) if axis not in (first, second)]
    turned = call.step("Transpose", x, perm=[*others, first, second])
    flat = call.reshaped(turned, [*(shape[axis] for axis in others), sizes[0] * sizes[1]], final=False)
    return call.result("Gather", flat, call.constant(places.copy(), "places"), axis=len(others))


@aten("trace.default")
def trace(call: Site):
    x = call.tensor("self")
    if any(isinstance(size, Batch) for size in call.type_of(x).shape):
        call.refuse("takes a diagonal through the batch")
    return call.result("ReduceSum", diagonal(call), axes=[0], keepdims=0)


@aten("diag_embed.default")
def on_diagonal(call: Site):
    x = call.tensor("self")
    rank, size = call.type_of(x).rank, call.type_of(x).shape[-1]
    if (call.plain("offset", 0), call.plain("dim1", -2), call.plain("dim2", -1)) != (0, -2, -1):
        call.refuse("fills a diagonal beside the main one, which is not supported")
    eye = call.constant(np.eye(size, dtype=call.type_of(x).dtype), "eye")
    return call.result("Mul", call.step("Unsqueeze", x, axes=[rank]), eye)


@aten("rot90.default")
def turn_quarters(call: Site):
    x, count = call.tensor("self"), call.plain("k", 1) % 4
    rank = call.type_of(x).rank
    first, second = (axis % rank for axis in call.plain("dims", [0, 1]))
    flips = {1: [second], 2: [first, second], 3: [first]}.get(count, [])
    if flips:
        x = call.step("Slice", x, starts=[-1] * len(flips), ends=[-FAR] * len(flips), axes=flips,
                      steps=[-1] * len(flips))  # fmt: skip
    order = list(range(rank))
    if count % 2:
        order[first], order[second] = second, first
    return call.result("Transpose", x, perm=order)


@aten("tril_indices.default", "triu_indices.default")
def places_of_triangle(call: Site):
    function = np.tril_indices if "tril" in call.call.target else np.triu_indices
    places = function(call.plain("row"), call.plain("offset", 0), call.plain("col"))
    return call.constant(np.stack(places).astype(np.int64), "places")


@aten("repeat_interleave.self_Tensor")
def repeat_each_as_often(call: Site):
    """Every element as often as a tensor says, which must be known beforehand."""
    x, times = call.tensor("self"), call.known_array("repeats")
    axis = call.plain("dim", 0) % call.type_of(x).rank
    picked = np.repeat(np.arange(call.type_of(x).shape[axis]), times)
    return call.result("Gather", x, call.constant(picked, "picked"), axis=axis)


@aten("one_hot.default")
def one_hot(call: Site):
    x, count = call.tensor("self"), call.plain("num_classes", -1)
    if count < 0:
        call.refuse("counts classes by what is in the image")
    wide = call.step("Unsqueeze", x, axes=[call.type_of(x).rank])
    equal = call.step("Equal", wide, call.constant(np.arange(count), "classes"))
    return call.result("Cast", equal, to="int64")


def _triangle(name: str, function) -> None:
    def triangle(call: Site):
        x, offset = call.tensor("self"), call.plain("diagonal", 0)
        shape = call.type_of(x).shape[-2:]
        kept = call.constant(function(np.ones(shape, bool), offset), "kept")
        return call.result("Where", kept, x, call.number(0, x))

    aten(name)(triangle)


_triangle("tril.default", np.tril)
_triangle("triu.default", np.triu)


@aten("meshgrid.indexing", "meshgrid.default")
def meshgrid(call: Site):
    arrays = [call.array(value) for value in call.tensors("tensors")]
    if any(array is None for array in arrays):
        call.refuse("makes a grid from what depends on the image")
    grids = np.meshgrid(*arrays, indexing=call.plain("indexing", "ij"))
    return tuple(call.constant(grid, f"grid{place}") for place, grid in enumerate(grids))
