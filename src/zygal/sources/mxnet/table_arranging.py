"""Operators that arrange, cut, join and repeat."""

from __future__ import annotations

from zygal.graph import Batch, Dimension
from zygal.sources.mxnet.site import Made, SymbolSite, operator


@operator("Flatten", "flatten")
def flatten(site: SymbolSite) -> Made:
    """To two axes."""
    return site.step("Flatten", site.x, axis=1)


@operator("Reshape", "reshape")
def reshape(site: SymbolSite) -> Made:
    """0 takes a size over, -1 is what is left, -2 all that follows, -3 joins two sizes, -4 splits one in two."""
    site.without("reverse", "False", "0")
    site.without("keep_highest", "False", "0")
    site.without("target_shape", None, "(0, 0)", "()", "[]", "(0,0)")
    given, wanted = list(site.type_of(site.x).shape), list(site.integers("shape", ()))
    sizes: list[Dimension] = []
    at, place = 0, 0
    while place < len(wanted):
        code = wanted[place]
        place += 1
        if code is None or code < -4:
            site.refuse(f"has the sizes {wanted}, which are not understood")
        if code in (0, -3, -4) and at + (code == -3) >= len(given):
            site.refuse(f"has the sizes {wanted} for {site.type_of(site.x)}")
        if code > 0 or code == -1:
            sizes.append(code)
            at += 1
        elif code == 0:
            sizes.append(given[at])
            at += 1
        elif code == -2:
            sizes += given[at:]
            at = len(given)
        elif code == -3:
            sizes.append(_times(site, given[at], given[at + 1]))
            at += 2
        else:
            parts = wanted[place : place + 2]
            place += 2
            sizes += _split(site, given[at], parts)
            at += 1
    if not sizes or sizes.count(-1) > 1:
        site.refuse(f"has the sizes {wanted}")
    return site.reshaped(site.x, sizes)


def _times(site: SymbolSite, left: Dimension, right: Dimension) -> Dimension:
    if isinstance(left, Batch) and isinstance(right, Batch):
        site.refuse("joins the batch with itself")
    return right * left if isinstance(right, Batch) else left * right


def _split(site: SymbolSite, size: Dimension, parts: list[int]) -> list[int]:
    if isinstance(size, Batch) or len(parts) != 2 or parts.count(-1) > 1:
        site.refuse(f"splits {size} into {parts}, which is not supported")
    known = [part for part in parts if part != -1]
    found = [size // known[0] if part == -1 and known[0] else part for part in parts]
    if found[0] * found[1] != size:
        site.refuse(f"splits {size} into {parts}")
    return found


@operator("transpose")
def transpose(site: SymbolSite) -> Made:
    """All axes are reversed where none are named."""
    axes = site.integers("axes", ()) or range(site.type_of(site.x).rank)[::-1]
    return site.step("Transpose", site.x, perm=list(axes))


@operator("SwapAxis", "swapaxes")
def swapped(site: SymbolSite) -> Made:
    """Two axes change their places."""
    order = list(range(site.type_of(site.x).rank))
    one, other = site.axis("dim1", 0), site.axis("dim2", 0)
    order[one], order[other] = order[other], order[one]
    return site.step("Transpose", site.x, perm=order)


@operator("expand_dims")
def with_axis(site: SymbolSite) -> Made:
    """An axis of size 1 more."""
    return site.step("Unsqueeze", site.x, axes=[site.axis(rank=site.type_of(site.x).rank + 1)])


@operator("squeeze")
def without_axes(site: SymbolSite) -> Made:
    """Axes of size 1 fewer; all of them where none are named."""
    shape = site.type_of(site.x).shape
    axes = site.integers("axis") or [axis for axis, size in enumerate(shape) if size == 1]
    return site.step("Squeeze", site.x, axes=list(axes))


@operator("Concat", "concat")
def concat(site: SymbolSite) -> Made:
    """Along one axis."""
    axis = site.axis("dim", 1)
    return site.step("Concat", *site.inputs, axis=axis) if len(site.inputs) > 1 else site.step("Identity", site.x)


@operator("stack")
def stack(site: SymbolSite) -> Made:
    """Along an axis of their own."""
    axis = site.axis(default=0, rank=site.type_of(site.x).rank + 1)
    return site.step("Concat", *(site.step("Unsqueeze", each, axes=[axis]) for each in site.inputs), axis=axis)


@operator("SliceChannel", "split")
def split(site: SymbolSite) -> Made:
    """Equal parts along one axis."""
    axis, count, squeeze = site.axis(default=1), site.integer("num_outputs"), site.truth("squeeze_axis")
    size = site.type_of(site.x).shape[axis]
    if isinstance(size, Batch) or not count or size % count or squeeze and size != count:
        site.refuse(f"splits {size} into {count} parts")
    step = size // count
    parts = [site.step("Slice", site.x, starts=[at], ends=[at + step], axes=[axis]) for at in range(0, size, step)]
    return tuple(site.step("Squeeze", each, axes=[axis]) if squeeze else each for each in parts)


@operator("slice", "crop")
def slice_(site: SymbolSite) -> Made:
    """From begins to ends, each of which may be left out."""
    begins, ends = site.integers("begin", ()), site.integers("end", ())
    steps = site.integers("step", ()) or (None,) * len(begins)
    return _cut(site, list(zip(begins, ends, steps, strict=False)))


@operator("slice_axis")
def slice_axis(site: SymbolSite) -> Made:
    """Along one axis."""
    axis = site.axis()
    return _cut(site, [(None, None, None)] * axis + [(site.integer("begin"), site.integer("end"), None)])


@operator("slice_like")
def slice_like(site: SymbolSite) -> Made:
    """As large as another value, from the beginning."""
    other = site.type_of(site.input(1)).shape
    axes = site.integers("axes", ()) or range(len(other))
    bounds = [(None, None, None)] * len(other)
    for axis in axes:
        if not isinstance(other[axis], Batch):
            bounds[axis] = (0, other[axis], None)
    return _cut(site, bounds)


def _cut(site: SymbolSite, bounds: list[tuple[int | None, int | None, int | None]]) -> str:
    """Cuts along the leading axes, each by begin, end and step."""
    kept = []
    for axis, (begin, end, step) in enumerate(bounds):
        size, step = site.type_of(site.x).shape[axis], step or 1
        begin = begin or 0
        if begin == 0 and end is None and step == 1:
            continue
        if isinstance(size, Batch):
            site.refuse("cuts the batch")
        if step < 0:
            site.refuse("cuts backwards, which is not supported")
        kept.append((begin, size if end is None else end, axis, step))
    if not kept:
        return site.step("Identity", site.x)
    starts, ends, axes, steps = map(list, zip(*kept))
    return site.step("Slice", site.x, starts=starts, ends=ends, axes=axes, steps=steps)


@operator("Pad", "pad")
def pad(site: SymbolSite) -> Made:
    """Begins and ends of each axis in turn."""
    mode, widths = site.choice("mode", "", "constant", "edge", "reflect"), site.integers("pad_width", ())
    return site.step(
        "Pad", site.x, pads=[*widths[::2], *widths[1::2]], mode=mode, value=site.real("constant_value", 0.0)
    )


@operator("tile")
def tile(site: SymbolSite) -> Made:
    """Repeated along the last axes."""
    times, rank = site.integers("reps", ()), site.type_of(site.x).rank
    if len(times) > rank:
        site.refuse("repeats along more axes than there are")
    return site.step("Tile", site.x, repeats=[1] * (rank - len(times)) + list(times))
