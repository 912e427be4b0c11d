"""ATen operators that move whole axes: reshapes, transposes, joining, padding, repeating."""

from __future__ import annotations

import numpy as np

from zygal.graph import Batch
from zygal.sources.pytorch.calls import Site, aten
from zygal.sources.pytorch.symbols import multiply


@aten("flatten.using_ints")
def flatten(call: Site):
    x = call.tensor("self")
    shape = call.type_of(x).shape
    first, last = (axis % len(shape) for axis in (call.plain("start_dim", 0), call.plain("end_dim", -1)))
    if first == 1 and last == len(shape) - 1 and isinstance(shape[0], Batch):
        return call.result("Flatten", x, axis=1)
    return call.reshaped(x, [*shape[:first], multiply(*shape[first : last + 1]), *shape[last + 1 :]])


@aten("view.default", "reshape.default", "_unsafe_view.default")
def reshape(call: Site):
    return call.reshaped(call.tensor("self"), call.plain("size" if call.has("size") else "shape"))


@aten("view_as.default", "reshape_as.default")
def reshape_as(call: Site):
    return call.reshaped(call.tensor("self"), call.type_of(call.tensor("other")).shape)


@aten("unflatten.int")
def unflatten(call: Site):
    x, sizes = call.tensor("self"), list(call.plain("sizes"))
    shape = call.type_of(x).shape
    axis = call.plain("dim") % len(shape)
    if -1 in sizes and isinstance(shape[axis], int):
        sizes[sizes.index(-1)] = shape[axis] // -int(np.prod(sizes))
    return call.reshaped(x, [*shape[:axis], *sizes, *shape[axis + 1 :]])


def permutation(call: Site, rank: int) -> list[int]:
    """The order of axes that a call of the transposing kind gives a tensor of that rank."""
    order = list(range(rank))
    if call.has("dims"):
        return [axis % rank for axis in call.plain("dims")]
    if call.has("source"):
        sources, targets = (
            [axis % rank for axis in ([axes] if isinstance(axes, int) else axes)]
            for axes in (call.plain("source"), call.plain("destination"))
        )
        rest = iter(axis for axis in order if axis not in sources)
        return [sources[targets.index(place)] if place in targets else next(rest) for place in order]
    if "numpy_T" in call.call.target:
        return order[::-1]
    names = ("dim0", "dim1") if call.has("dim0") else ("axis0", "axis1")
    first, second = (call.plain(name, default) for name, default in zip(names, (0, 1)))
    if rank > 1:
        order[first], order[second] = order[second], order[first]
    return order


@aten("permute.default", "transpose.int", "t.default", "swapaxes.default", "swapdims.default", "movedim.int",
      "movedim.intlist", "moveaxis.int", "moveaxis.intlist", "numpy_T.default")  # fmt: skip
def transpose(call: Site):
    x = call.tensor("self")
    return call.result("Transpose", x, perm=permutation(call, call.type_of(x).rank))


@aten("squeeze.dim", "squeeze.dims", "squeeze.default")
def squeeze(call: Site):
    """Axes of another size than 1 stay, as in the framework."""
    x = call.tensor("self")
    shape = call.type_of(x).shape
    axes = call.plain("dim", list(range(len(shape))))
    single = [axis for axis in ([axes] if isinstance(axes, int) else axes) if shape[axis] == 1]
    return call.result("Squeeze", x, axes=single) if single else call.result("Identity", x)


@aten("unsqueeze.default")
def unsqueeze(call: Site):
    return call.result("Unsqueeze", call.tensor("self"), axes=[call.plain("dim")])


@aten("cat.default", "concat.default", "concatenate.default")
def concatenate(call: Site):
    tensors = [value for value in call.tensors("tensors") if call.type_of(value).shape != (0,)]
    if len({call.type_of(value).dtype for value in tensors}) > 1:
        tensors = [call.step("Cast", value, to="float32") for value in tensors]
    return call.result("Concat", *tensors, axis=call.plain("dim", 0))


@aten("stack.default")
def stack(call: Site):
    axis = call.plain("dim", 0)
    return call.result("Concat", *(call.step("Unsqueeze", v, axes=[axis]) for v in call.tensors("tensors")), axis=axis)


@aten("hstack.default", "vstack.default")
def stack_rows(call: Site):
    """Along the second axis or the first."""
    return call.result("Concat", *call.tensors("tensors"), axis=int("hstack" in call.call.target))


@aten("dstack.default", "column_stack.default")
def stack_along_third_or_second(call: Site):
    """What has no such axis gets one of size 1."""
    axis = 2 if "dstack" in call.call.target else 1
    wide = []
    for x in call.tensors("tensors"):
        if axis == 2 and call.type_of(x).rank == 1:
            x = call.step("Unsqueeze", x, axes=[0])
        wide.append(call.step("Unsqueeze", x, axes=[axis]) if call.type_of(x).rank == axis else x)
    return call.result("Concat", *wide, axis=axis)


@aten("atleast_1d.default", "atleast_2d.default", "atleast_3d.default")
def with_axes(call: Site):
    """Missing axes are put in front; to three, the third behind."""
    x, wanted = call.tensor("self"), int(call.call.target.split("atleast_")[1][0])
    rank = call.type_of(x).rank
    if rank >= wanted:
        return call.result("Identity", x)
    axes = {(0, 1): [0], (0, 2): [0, 1], (1, 2): [0], (0, 3): [0, 1, 2], (1, 3): [0, 2], (2, 3): [2]}[rank, wanted]
    return call.result("Unsqueeze", x, axes=axes)


@aten("kron.default")
def kronecker(call: Site):
    """Every element of the first times the whole second, in its place."""
    left, right = call.tensor("self"), call.tensor("other")
    rank = max(call.type_of(left).rank, call.type_of(right).rank)
    for _ in range(rank - call.type_of(left).rank):
        left = call.step("Unsqueeze", left, axes=[0])
    for _ in range(rank - call.type_of(right).rank):
        right = call.step("Unsqueeze", right, axes=[0])
    sizes = [multiply(a, b) for a, b in zip(call.type_of(left).shape, call.type_of(right).shape)]
    left = call.step("Unsqueeze", left, axes=[2 * axis + 1 for axis in range(rank)])
    right = call.step("Unsqueeze", right, axes=[2 * axis for axis in range(rank)])
    return call.reshaped(call.step("Mul", left, right), sizes)


@aten("ravel.default")
def ravel(call: Site):
    return call.reshaped(call.tensor("self"), [multiply(*call.type_of(call.tensor("self")).shape)])


@aten("mT.default", "adjoint.default", "matrix_H.default")
def turned_matrix(call: Site):
    x = call.tensor("self")
    rank = call.type_of(x).rank
    return call.result("Transpose", x, perm=[*range(rank - 2), rank - 1, rank - 2])


@aten("expand.default", "broadcast_to.default")
def expand(call: Site):
    x, sizes = call.tensor("self"), list(call.plain("size"))
    shape = call.type_of(x).shape
    lead = len(sizes) - len(shape)
    sizes = [shape[at - lead] if size == -1 else size for at, size in enumerate(sizes)]
    sizes = _with_batch(call, sizes, shape, lead)
    return call.result("Identity", x) if tuple(sizes) == shape else call.expanded(x, sizes)


def _with_batch(call: Site, sizes: list, shape, lead: int) -> list:
    """Where a program is freed from its fixed batch, a leading axis repeated to that number is the batch."""
    repeats_first = bool(sizes) and sizes[0] == call.captured_batch and (lead > 0 or shape[0] == 1)
    if repeats_first and not any(isinstance(size, Batch) for size in shape):
        return [Batch(), *sizes[1:]]
    return sizes


@aten("expand_as.default")
def expand_as(call: Site):
    return call.expanded(call.tensor("self"), list(call.type_of(call.tensor("other")).shape))


@aten("repeat.default", "tile.default")
def repeat(call: Site):
    x = call.tensor("self")
    times = list(call.plain("repeats" if call.has("repeats") else "dims"))
    rank = call.type_of(x).rank
    if len(times) < rank:
        times = [1] * (rank - len(times)) + times
    if len(times) > rank:
        x = call.step("Unsqueeze", x, axes=list(range(len(times) - rank)))
    if any(isinstance(each, Batch) for each in times):
        x, times = _repeated_along_batch(call, x, times)
    return call.result("Tile", x, repeats=times)


def _repeated_along_batch(call: Site, x: str, times: list) -> tuple[str, list[int]]:
    """The value with the axis that is repeated as often as there are images, and what is left to repeat."""
    axis = next(axis for axis, each in enumerate(times) if isinstance(each, Batch))
    shape = list(call.type_of(x).shape)
    if sum(isinstance(each, Batch) for each in (*times, *shape)) > 1:
        call.refuse("repeats along the batch more than once")
    wide = call.step("Unsqueeze", x, axes=[axis])
    wide = call.expanded(wide, [*shape[:axis], times[axis], *shape[axis:]], final=False)
    merged = [*shape[:axis], multiply(times[axis], shape[axis]), *shape[axis + 1 :]]
    return call.reshaped(wide, merged, final=False), [*times[:axis], 1, *times[axis + 1 :]]


@aten("repeat_interleave.self_int")
def repeat_each(call: Site):
    """Every element several times in a row: a new axis of that size, folded into the one before it."""
    x, times = call.tensor("self"), call.plain("repeats")
    shape = list(call.type_of(x).shape)
    if call.plain("dim") is None:
        x, shape = call.reshaped(x, [-1], final=False), [multiply(*shape)]
    axis = call.plain("dim", 0) % len(shape)
    wide = call.step("Unsqueeze", x, axes=[axis + 1])
    ones = [1] * (len(shape) + 1)
    ones[axis + 1] = times
    wide = call.step("Tile", wide, repeats=ones)
    return call.reshaped(wide, [*shape[:axis], multiply(shape[axis], times), *shape[axis + 1 :]])


@aten("pad.default", "constant_pad_nd.default", "reflection_pad2d.default", "reflection_pad1d.default",
      "replication_pad2d.default", "replication_pad1d.default", "zero_pad2d.default")  # fmt: skip
def pad(call: Site):
    """The framework lists pads from the last axis backwards, begin and end together."""
    x, target = call.tensor("self"), call.call.target
    mode = "reflect" if "reflection" in target else "replicate" if "replication" in target else "constant"
    mode = call.plain("mode", mode)
    given = call.plain("pad" if call.has("pad") else "padding")
    shape = call.type_of(x).shape
    rank = len(shape)
    begins, ends = [0] * rank, [0] * rank
    for place, (begin, end) in enumerate(zip(given[::2], given[1::2])):
        begins[rank - 1 - place], ends[rank - 1 - place] = begin, end
    if mode != "constant" and min(begins + ends) < 0:
        call.refuse("cuts and pads at once by something else than a constant, which is not supported")
    if mode == "circular":
        return _padded_around(call, x, begins, ends)
    names = {"constant": "constant", "reflect": "reflect", "replicate": "edge"}
    value = float(call.plain("value", 0.0) or 0.0)
    return call.result("Pad", x, pads=begins + ends, value=value, mode=names[mode])


def _padded_around(call: Site, x: str, begins: list[int], ends: list[int]) -> str:
    """As on a ring: what leaves at one end comes in at the other."""
    for axis, (begin, end) in enumerate(zip(begins, ends)):
        if begin or end:
            size = call.type_of(x).shape[axis]
            parts = [x]
            if begin:
                parts.insert(0, call.step("Slice", x, starts=[size - begin], ends=[size], axes=[axis]))
            if end:
                parts.append(call.step("Slice", x, starts=[0], ends=[end], axes=[axis]))
            x = call.step("Concat", *parts, axis=axis)
    return x


@aten("pixel_shuffle.default")
def pixel_shuffle(call: Site):
    return call.result("DepthToSpace", call.tensor("self"), blocksize=call.plain("upscale_factor"), mode="CRD")


@aten("pixel_unshuffle.default")
def pixel_unshuffle(call: Site):
    """The channel is the outer part of the result's number, so the axes are turned by hand."""
    x, block = call.tensor("self"), call.plain("downscale_factor")
    batch, channels, height, width = call.type_of(x).shape
    split = call.reshaped(x, [batch, channels, height // block, block, width // block, block], final=False)
    turned = call.step("Transpose", split, perm=[0, 1, 3, 5, 2, 4])
    return call.reshaped(turned, [batch, channels * block**2, height // block, width // block])


@aten("channel_shuffle.default")
def channel_shuffle(call: Site):
    x, groups = call.tensor("self"), call.plain("groups")
    shape = call.type_of(x).shape
    split = call.reshaped(x, [shape[0], groups, shape[1] // groups, *shape[2:]], final=False)
    turned = call.step("Transpose", split, perm=[0, 2, 1, *range(3, len(shape) + 1)])
    return call.reshaped(turned, shape)
