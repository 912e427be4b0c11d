"""Operators that arrange, cut, join and repeat. Sizes that they are handed as tensors are followed as numbers and
multiples of the batch."""

from __future__ import annotations

import numpy as np
from onnx import numpy_helper

from zygal.graph import Batch, Dimension
from zygal.graph.shapes import broadcast
from zygal.sources.onnx.site import Made, OnnxSite, operator
from zygal.sources.onnx.table_arithmetic import axes_of, dtype_of
from zygal.sources.recipes.arranging import FAR, padded_around


@operator("Reshape")
def reshape(site: OnnxSite) -> Made:
    """A size of 0 is that of the input, and one of -1 what is left."""
    x, sizes = site.value(0), site.dimensions(1, "sizes")
    if not site.attribute("allowzero", 0):
        shape = site.type_of(x).shape
        if any(size == 0 and axis >= len(shape) for axis, size in enumerate(sizes)):
            site.refuse("takes over a size that its input does not have")
        sizes = [shape[axis] if size == 0 else size for axis, size in enumerate(sizes)]
    if sizes.count(-1) > 1 or any(isinstance(size, int) and size < -1 for size in sizes):
        site.refuse(f"has the sizes {sizes}")
    return site.reshaped(x, sizes)


@operator("Flatten")
def flatten(site: OnnxSite) -> Made:
    """To two axes."""
    axis = site.attribute("axis", 1)
    return site.step("Flatten", site.value(0), axis=axis + (site.type_of(site.value(0)).rank if axis < 0 else 0))


@operator("Squeeze")
def squeeze(site: OnnxSite) -> Made:
    """All axes of size 1 go where none is named; the batch is not one of them."""
    x, axes = site.value(0), axes_of(site, 13)
    if axes is None:
        axes = [axis for axis, size in enumerate(site.type_of(x).shape) if size == 1]
    return site.step("Squeeze", x, axes=axes) if axes else site.step("Identity", x)


@operator("Unsqueeze")
def unsqueeze(site: OnnxSite) -> Made:
    """The axes became an input in opset 13."""
    axes = axes_of(site, 13)
    return site.step("Unsqueeze", site.value(0), axes=axes or site.refuse("names no axes"))


@operator("Concat")
def concat(site: OnnxSite) -> Made:
    """One part alone is that part; parts of no length are left out."""
    axis = site.axis(1)
    parts = [site.value(place) for place in range(len(site.inputs))]
    ranks = {site.type_of(each).rank for each in parts}
    kept = [each for each in parts if len(ranks) > 1 or site.type_of(each).shape[axis] != 0] or parts[:1]
    return site.step("Concat", *kept, axis=axis) if len(kept) > 1 else site.step("Identity", kept[0])


@operator("Split")
def split(site: OnnxSite) -> Made:
    """Into parts of the sizes that are stated, or into as many equal ones as there are results."""
    x, axis = site.value(0), site.axis(0)
    size, sizes = site.type_of(x).shape[axis], site.attribute("split")
    if site.version >= 13 and site.given(1):
        sizes = site.integers(1, "sizes")
    if isinstance(size, Batch):
        site.refuse("splits the batch")
    parts = site.attribute("num_outputs", len(site.outputs))
    if not sizes:
        chunk = -(-size // parts)
        sizes = [min(chunk, size - start) for start in range(0, size, chunk)]
    if sum(sizes) != size or min(sizes) < 0 or len(sizes) < len(site.outputs):
        site.refuse(f"splits {size} into {sizes} for {len(site.outputs)} results")
    ends = np.cumsum(sizes).tolist()
    return tuple(site.step("Slice", x, starts=[end - part], ends=[end], axes=[axis]) for part, end in zip(sizes, ends))


@operator("Slice")
def slice_(site: OnnxSite) -> Made:
    """Attributes before opset 10. A slice of all images of a batch leaves them as they are."""
    x = site.value(0)
    if site.version < 10:
        starts, ends, axes = (site.attribute(name) for name in ("starts", "ends", "axes"))
        steps = None
    else:
        starts, ends = site.dimensions(1, "starts"), site.dimensions(2, "ends")
        axes = site.integers(3, "axes") if site.given(3) else None
        steps = site.integers(4, "steps") if site.given(4) else None
    shape = site.type_of(x).shape
    axes = [axis % len(shape) for axis in axes or range(len(starts))]
    steps = steps or [1] * len(axes)
    kept = []
    for start, end, axis, step in zip(starts, ends, axes, steps, strict=True):
        if isinstance(shape[axis], Batch) and start == 0 and step == 1 and _reaches(end, shape[axis]):
            continue
        if isinstance(start, Batch) or isinstance(end, Batch):
            site.refuse("cuts at a place that depends on the number of images")
        kept.append((start, end, axis, step))
    if not kept:
        return site.step("Identity", x)
    starts, ends, axes, steps = map(list, zip(*kept))
    far = [min(max(end, -FAR), FAR) for end in ends]
    return site.step("Slice", x, starts=starts, ends=far, axes=axes, **({} if set(steps) == {1} else {"steps": steps}))


FARTHER_THAN_ANY_BATCH = 10**8
"""Exporters write the end of an axis as some large number."""


def _reaches(end: Dimension, size: Batch) -> bool:
    return end.times >= size.times if isinstance(end, Batch) else end >= FARTHER_THAN_ANY_BATCH


@operator("Expand")
def expand(site: OnnxSite) -> Made:
    """Repeated up to the sizes that both sides have together."""
    x, wanted = site.value(0), site.dimensions(1, "sizes")
    sizes = list(broadcast(site.type_of(x).shape, tuple(wanted)))
    if sizes == wanted:
        return site.step("Expand", x, site.value(1), sizes=tuple(sizes))
    return site.expanded(x, sizes) if tuple(sizes) != site.type_of(x).shape else site.step("Identity", x)


@operator("Tile")
def tile(site: OnnxSite) -> Made:
    """As often as a tensor says; once for each image where that is the batch."""
    x, times = site.value(0), site.dimensions(1, "repetitions")
    shape = site.type_of(x).shape
    if not any(isinstance(each, Batch) for each in times):
        return site.step("Tile", x, repeats=times)
    if any(isinstance(each, Batch) and size != 1 for each, size in zip(times, shape, strict=True)):
        site.refuse("repeats more than one row as often as there are images")
    rest = [1 if isinstance(each, Batch) else each for each in times]
    repeated = site.step("Tile", x, repeats=rest) if any(each != 1 for each in rest) else x
    sizes = site.type_of(repeated).shape
    return site.expanded(repeated, [each if isinstance(each, Batch) else size for each, size in zip(times, sizes)])


@operator("Pad")
def pad(site: OnnxSite) -> Made:
    """Attributes before opset 11; the axes may be named from opset 18 on."""
    x, mode = site.value(0), site.attribute("mode", "constant")
    rank, value = site.type_of(x).rank, 0.0
    if site.version < 11:
        pads, value = site.attribute("pads"), site.attribute("value", 0.0)
    else:
        pads = site.integers(1, "pads")
        value = site.one(2, "value") if site.given(2) else value
        if site.given(3):
            axes = [axis % rank for axis in site.integers(3, "axes")]
            around = [0] * 2 * rank
            for place, axis in enumerate(axes):
                around[axis], around[rank + axis] = pads[place], pads[len(axes) + place]
            pads = around
    if len(pads) != 2 * rank:
        site.refuse(f"has {len(pads)} pads for {rank} axes")
    if mode == "wrap":
        if min(pads) < 0:
            site.refuse("cuts off what it wraps around")
        return padded_around(site, x, pads[:rank], pads[rank:]) if any(pads) else site.step("Identity", x)
    if mode not in ("constant", "reflect", "edge"):
        site.refuse(f"has the mode {mode}, which is not known")
    return site.step("Pad", x, pads=pads, value=value, mode=mode)


@operator("ConstantOfShape")
def constant_of_shape(site: OnnxSite) -> Made:
    """One number everywhere."""
    held = site.attribute("value")
    value = np.zeros(1, np.float32) if held is None else numpy_helper.to_array(held.t)
    if value.size != 1:
        site.refuse("repeats more than one number")
    return site.expanded(site.constant(value.reshape(()), "value"), site.dimensions(0, "sizes"))


@operator("Size")
def size(site: OnnxSite) -> Made:
    """How many elements there are."""
    return site.step("ReduceProd", site.step("Shape", site.value(0)), axes=[0], keepdims=0)


@operator("Range")
def range_(site: OnnxSite) -> Made:
    """Known numbers alone."""
    known = [site.constant(site.known(place, "limits"), "limit") for place in range(3)]
    return site.step("Range", *known)


@operator("EyeLike")
def eye_like(site: OnnxSite) -> Made:
    """Ones on a diagonal."""
    shape = site.type_of(site.value(0)).shape
    if len(shape) != 2 or not all(isinstance(each, int) for each in shape):
        site.refuse("makes a matrix whose size depends on the number of images")
    number = site.attribute("dtype")
    dtype = site.type_of(site.value(0)).dtype.name if number is None else dtype_of(site, number)
    return site.constant(np.eye(*shape, site.attribute("k", 0), dtype=dtype), "eye")


@operator("NonZero")
def places_of_truth(site: OnnxSite) -> Made:
    """How many there are must not depend on the image."""
    return site.constant(np.array(np.nonzero(site.known(0, "places")), np.int64), "places")


@operator("GatherND")
def gather_at(site: OnnxSite) -> Made:
    """Places that are known, in a table that is known, or along the axes behind the images."""
    site.without("batch_dims", 0)
    table, places = site.known(0, "numbers"), site.known(1, "places")
    return site.constant(table[tuple(np.moveaxis(places, -1, 0))], "gathered")


@operator("Trilu")
def triangle(site: OnnxSite) -> Made:
    """What lies on one side of a diagonal of the last two axes; zero elsewhere."""
    x = site.value(0)
    offset = site.one(1, "diagonal") if site.given(1) else 0
    rows, columns = site.type_of(x).shape[-2:]
    if isinstance(rows, Batch) or isinstance(columns, Batch):
        site.refuse("cuts the batch")
    ones = np.ones((rows, columns), bool)
    kept = np.triu(ones, offset) if site.attribute("upper", 1) else np.tril(ones, offset)
    nothing = site.constant(np.zeros((), site.type_of(x).dtype), "nothing")
    return site.step("Where", site.constant(kept, "kept"), x, nothing)


@operator("OneHot")
def one_hot(site: OnnxSite) -> Made:
    """One value at the place that an index says, another elsewhere."""
    indices, depth = site.value(0), int(site.one(1, "depth"))
    off, on = site.known(2, "values")
    rank = site.type_of(indices).rank + 1
    axis = site.axis(-1, rank)
    if site.type_of(indices).dtype.kind != "i":
        indices = site.step("Cast", indices, to="int64")
    dtype = site.type_of(indices).dtype
    counted = np.arange(depth, dtype=dtype).reshape([-1 if at == axis else 1 for at in range(rank)])
    places = site.step("Unsqueeze", indices, axes=[axis])
    # The standard counts negative indices from behind.
    chosen = [
        site.step("Equal", places, site.constant(each, "places")) for each in (counted, counted - dtype.type(depth))
    ]
    return site.step(
        "Where", site.step("Or", *chosen), site.constant(np.array(on), "on"), site.constant(np.array(off), "off")
    )


@operator("DepthToSpace")
def depth_to_space(site: OnnxSite) -> Made:
    """In the order of columns and rows unless it says otherwise."""
    return site.step(
        "DepthToSpace", site.value(0), blocksize=site.attribute("blocksize"), mode=site.attribute("mode", "DCR")
    )


@operator("GridSample")
def grid_sample(site: OnnxSite) -> Made:
    """Its modes had other names before opset 20."""
    mode = site.attribute("mode", "linear")
    rest = {
        "padding_mode": site.attribute("padding_mode", "zeros"),
        "align_corners": site.attribute("align_corners", 0),
    }
    mode = {"bilinear": "linear", "bicubic": "cubic"}.get(mode, mode)
    return site.step("GridSample", site.value(0), site.value(1), mode=mode, **rest)


@operator("ScatterElements", "Scatter")
def scatter(site: OnnxSite) -> Made:
    """Along one axis."""
    inputs = [site.value(place) for place in range(3)]
    return site.step(
        "ScatterElements", *inputs, axis=site.attribute("axis", 0), reduction=site.attribute("reduction", "none")
    )
