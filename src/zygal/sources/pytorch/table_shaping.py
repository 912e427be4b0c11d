"""ATen operators that move whole axes: reshapes, transposes, joining, padding, repeating."""

from __future__ import annotations

import numpy as np

from zygal.graph import Batch
from zygal.sources.pytorch.calls import Places, Site, aten
from zygal.sources.pytorch.symbols import multiply
from zygal.sources.recipes.arranging import padded_around


@aten("flatten.using_ints")
def flatten(site: Site):
    x = site.tensor("self")
    shape = site.type_of(x).shape
    first, last = (axis % len(shape) for axis in (site.plain("start_dim", 0), site.plain("end_dim", -1)))
    if first == 1 and last == len(shape) - 1 and isinstance(shape[0], Batch):
        return site.step("Flatten", x, axis=1)
    return site.reshaped(x, [*shape[:first], multiply(*shape[first : last + 1]), *shape[last + 1 :]])


@aten("view.default", "reshape.default", "_unsafe_view.default")
def reshape(site: Site):
    sizes = site.plain("size" if site.has("size") else "shape")
    if site.places("self"):
        if sizes[0] not in (Batch(1), -1) or any(size != 1 for size in sizes[1:]):
            site.refuse("arranges the places of the images otherwise than one after the other")
        return Places(len(sizes))
    return site.reshaped(site.tensor("self"), sizes)


@aten("view_as.default", "reshape_as.default")
def reshape_as(site: Site):
    return site.reshaped(site.tensor("self"), site.type_of(site.tensor("other")).shape)


@aten("unflatten.int")
def unflatten(site: Site):
    x, sizes = site.tensor("self"), list(site.plain("sizes"))
    shape = site.type_of(x).shape
    axis = site.plain("dim") % len(shape)
    if -1 in sizes and isinstance(shape[axis], int):
        sizes[sizes.index(-1)] = shape[axis] // -int(np.prod(sizes))
    return site.reshaped(x, [*shape[:axis], *sizes, *shape[axis + 1 :]])


def permutation(site: Site, rank: int) -> list[int]:
    """The order of axes that a call of the transposing kind gives a tensor of that rank."""
    order = list(range(rank))
    if site.has("dims"):
        return [axis % rank for axis in site.plain("dims")]
    if site.has("source"):
        sources, targets = (
            [axis % rank for axis in ([axes] if isinstance(axes, int) else axes)]
            for axes in (site.plain("source"), site.plain("destination"))
        )
        rest = iter(axis for axis in order if axis not in sources)
        return [sources[targets.index(position)] if position in targets else next(rest) for position in order]
    if "numpy_T" in site.target:
        return order[::-1]
    names = ("dim0", "dim1") if site.has("dim0") else ("axis0", "axis1")
    first, second = (site.plain(name, default) for name, default in zip(names, (0, 1)))
    if rank > 1:
        order[first], order[second] = order[second], order[first]
    return order


@aten(
    "permute.default",
    "transpose.int",
    "t.default",
    "swapaxes.default",
    "swapdims.default",
    "movedim.int",
    "movedim.intlist",
    "moveaxis.int",
    "moveaxis.intlist",
    "numpy_T.default",
)
def transpose(site: Site):
    x = site.tensor("self")
    return site.step("Transpose", x, perm=permutation(site, site.type_of(x).rank))


@aten("squeeze.dim", "squeeze.dims", "squeeze.default")
def squeeze(site: Site):
    """Axes of another size than 1 stay, as in the framework."""
    x = site.tensor("self")
    shape = site.type_of(x).shape
    axes = site.plain("dim", list(range(len(shape))))
    single = [axis for axis in ([axes] if isinstance(axes, int) else axes) if shape[axis] == 1]
    return site.step("Squeeze", x, axes=single) if single else site.step("Identity", x)


@aten("unsqueeze.default")
def unsqueeze(site: Site):
    return site.step("Unsqueeze", site.tensor("self"), axes=[site.plain("dim")])


@aten("cat.default", "concat.default", "concatenate.default")
def concatenate(site: Site):
    tensors = [value for value in site.tensors("tensors") if site.type_of(value).shape != (0,)]
    if len({site.type_of(value).dtype for value in tensors}) > 1:
        tensors = [site.step("Cast", value, to="float32") for value in tensors]
    return site.step("Concat", *tensors, axis=site.plain("dim", 0))


@aten("stack.default")
def stack(site: Site):
    axis = site.plain("dim", 0)
    return site.step("Concat", *(site.step("Unsqueeze", v, axes=[axis]) for v in site.tensors("tensors")), axis=axis)


@aten("hstack.default", "vstack.default")
def stack_rows(site: Site):
    """Along the second axis or the first."""
    return site.step("Concat", *site.tensors("tensors"), axis=int("hstack" in site.target))


@aten("dstack.default", "column_stack.default")
def stack_along_third_or_second(site: Site):
    """What has no such axis gets one of size 1."""
    axis = 2 if "dstack" in site.target else 1
    wide = []
    for x in site.tensors("tensors"):
        if axis == 2 and site.type_of(x).rank == 1:
            x = site.step("Unsqueeze", x, axes=[0])
        wide.append(site.step("Unsqueeze", x, axes=[axis]) if site.type_of(x).rank == axis else x)
    return site.step("Concat", *wide, axis=axis)


@aten("atleast_1d.default", "atleast_2d.default", "atleast_3d.default")
def with_axes(site: Site):
    """Missing axes are put in front; to three, the third behind."""
    x, wanted = site.tensor("self"), int(site.target.split("atleast_")[1][0])
    rank = site.type_of(x).rank
    if rank >= wanted:
        return site.step("Identity", x)
    axes = {(0, 1): [0], (0, 2): [0, 1], (1, 2): [0], (0, 3): [0, 1, 2], (1, 3): [0, 2], (2, 3): [2]}[rank, wanted]
    return site.step("Unsqueeze", x, axes=axes)


@aten("kron.default")
def kronecker(site: Site):
    """Every element of the first times the whole second, in its place."""
    left, right = site.tensor("self"), site.tensor("other")
    rank = max(site.type_of(left).rank, site.type_of(right).rank)
    for _ in range(rank - site.type_of(left).rank):
        left = site.step("Unsqueeze", left, axes=[0])
    for _ in range(rank - site.type_of(right).rank):
        right = site.step("Unsqueeze", right, axes=[0])
    sizes = [multiply(a, b) for a, b in zip(site.type_of(left).shape, site.type_of(right).shape)]
    left = site.step("Unsqueeze", left, axes=[2 * axis + 1 for axis in range(rank)])
    right = site.step("Unsqueeze", right, axes=[2 * axis for axis in range(rank)])
    return site.reshaped(site.step("Mul", left, right), sizes)


@aten("ravel.default")
def ravel(site: Site):
    return site.reshaped(site.tensor("self"), [multiply(*site.type_of(site.tensor("self")).shape)])


@aten("mT.default", "adjoint.default", "matrix_H.default")
def turned_matrix(site: Site):
    x = site.tensor("self")
    rank = site.type_of(x).rank
    return site.step("Transpose", x, perm=[*range(rank - 2), rank - 1, rank - 2])


@aten("expand.default", "broadcast_to.default")
def expand(site: Site):
    x, sizes = site.tensor("self"), list(site.plain("size"))
    shape = site.type_of(x).shape
    lead = len(sizes) - len(shape)
    sizes = [shape[at - lead] if size == -1 else size for at, size in enumerate(sizes)]
    return site.step("Identity", x) if tuple(sizes) == shape else site.expanded(x, sizes)


@aten("expand_as.default")
def expand_as(site: Site):
    return site.expanded(site.tensor("self"), list(site.type_of(site.tensor("other")).shape))


@aten("repeat.default", "tile.default")
def repeat(site: Site):
    x = site.tensor("self")
    times = list(site.plain("repeats" if site.has("repeats") else "dims"))
    rank = site.type_of(x).rank
    if len(times) < rank:
        times = [1] * (rank - len(times)) + times
    if len(times) > rank:
        x = site.step("Unsqueeze", x, axes=list(range(len(times) - rank)))
    if any(isinstance(each, Batch) for each in times):
        x, times = _repeated_along_batch(site, x, times)
    return site.step("Tile", x, repeats=times)


def _repeated_along_batch(site: Site, x: str, times: list) -> tuple[str, list[int]]:
    """The value with the axis that is repeated as often as there are images, and what is left to repeat."""
    axis = next(axis for axis, each in enumerate(times) if isinstance(each, Batch))
    shape = list(site.type_of(x).shape)
    if sum(isinstance(each, Batch) for each in (*times, *shape)) > 1:
        site.refuse("repeats along the batch more than once")
    wide = site.step("Unsqueeze", x, axes=[axis])
    wide = site.expanded(wide, [*shape[:axis], times[axis], *shape[axis:]])
    merged = [*shape[:axis], multiply(times[axis], shape[axis]), *shape[axis + 1 :]]
    return site.reshaped(wide, merged), [*times[:axis], 1, *times[axis + 1 :]]


@aten("repeat_interleave.self_int")
def repeat_each(site: Site):
    """Every element several times in a row: a new axis of that size, folded into the one before it."""
    x, times = site.tensor("self"), site.plain("repeats")
    shape = list(site.type_of(x).shape)
    if site.plain("dim") is None:
        x, shape = site.reshaped(x, [-1]), [multiply(*shape)]
    axis = site.plain("dim", 0) % len(shape)
    wide = site.step("Unsqueeze", x, axes=[axis + 1])
    ones = [1] * (len(shape) + 1)
    ones[axis + 1] = times
    wide = site.step("Tile", wide, repeats=ones)
    return site.reshaped(wide, [*shape[:axis], multiply(shape[axis], times), *shape[axis + 1 :]])


@aten(
    "pad.default",
    "constant_pad_nd.default",
    "reflection_pad2d.default",
    "reflection_pad1d.default",
    "replication_pad2d.default",
    "replication_pad1d.default",
    "zero_pad2d.default",
)
def pad(site: Site):
    """The framework lists pads from the last axis backwards, begin and end together."""
    x, target = site.tensor("self"), site.target
    mode = "reflect" if "reflection" in target else "replicate" if "replication" in target else "constant"
    mode = site.plain("mode", mode)
    given = site.plain("pad" if site.has("pad") else "padding")
    shape = site.type_of(x).shape
    rank = len(shape)
    begins, ends = [0] * rank, [0] * rank
    for position, (begin, end) in enumerate(zip(given[::2], given[1::2])):
        begins[rank - 1 - position], ends[rank - 1 - position] = begin, end
    if mode != "constant" and min(begins + ends) < 0:
        site.refuse("cuts and pads at once by something else than a constant, which is not supported")
    if mode == "circular":
        return padded_around(site, x, begins, ends)
    names = {"constant": "constant", "reflect": "reflect", "replicate": "edge"}
    value = float(site.plain("value", 0.0) or 0.0)
    return site.step("Pad", x, pads=begins + ends, value=value, mode=names[mode])


@aten("pixel_shuffle.default")
def pixel_shuffle(site: Site):
    return site.step("DepthToSpace", site.tensor("self"), blocksize=site.plain("upscale_factor"), mode="CRD")


@aten("pixel_unshuffle.default")
def pixel_unshuffle(site: Site):
    """The channel is the outer part of the result's number, so the axes are turned by hand."""
    x, block = site.tensor("self"), site.plain("downscale_factor")
    batch, channels, height, width = site.type_of(x).shape
    split = site.reshaped(x, [batch, channels, height // block, block, width // block, block])
    turned = site.step("Transpose", split, perm=[0, 1, 3, 5, 2, 4])
    return site.reshaped(turned, [batch, channels * block**2, height // block, width // block])


@aten("channel_shuffle.default")
def channel_shuffle(site: Site):
    x, groups = site.tensor("self"), site.plain("groups")
    shape = site.type_of(x).shape
    split = site.reshaped(x, [shape[0], groups, shape[1] // groups, *shape[2:]])
    turned = site.step("Transpose", split, perm=[0, 2, 1, *range(3, len(shape) + 1)])
    return site.reshaped(turned, shape)
