"""ATen operators that take images apart into windows, and put them together again."""

from __future__ import annotations

import numpy as np

from zygal.sources.pytorch.calls import Site, aten
from zygal.sources.recipes.windows import columns


@aten("unfold.default")
def sliding_windows(site: Site):
    """All windows along one axis, as a new last axis."""
    x, axis = site.tensor("self"), site.plain("dimension")
    rank = site.type_of(x).rank
    axis %= rank
    size, width, step = site.type_of(x).shape[axis], site.plain("size"), site.plain("step")
    places = np.arange(0, size - width + 1, step)[:, None] + np.arange(width)
    picked = site.step("Gather", x, site.constant(places, "windows"), axis=axis)
    order = [*range(axis + 1), *range(axis + 2, rank + 1), axis + 1]
    return site.step("Transpose", picked, perm=order)


@aten("im2col.default")
def patches(site: Site):
    """Every window's pixels as a column: [N, C * kernel, windows]."""
    x = site.tensor("self")
    kernel, dilation, padding, stride = (site.plain(n) for n in ("kernel_size", "dilation", "padding", "stride"))
    turned, counts = columns(site, x, kernel, dilation, padding * 2, stride)
    batch, channels = site.type_of(x).shape[:2]
    return site.reshaped(turned, [batch, channels * kernel[0] * kernel[1], counts[0] * counts[1]])


@aten("col2im.default")
def patches_together(site: Site):
    """Adds overlapping patches up into an image: a transposed convolution whose kernels hold a single 1 each."""
    x = site.tensor("self")
    kernel, dilation, padding, stride = (site.plain(n) for n in ("kernel_size", "dilation", "padding", "stride"))
    size, taps = site.plain("output_size"), kernel[0] * kernel[1]
    batch, rows = site.type_of(x).shape[:2]
    counts = [
        (size[axis] + 2 * padding[axis] - dilation[axis] * (kernel[axis] - 1) - 1) // stride[axis] + 1
        for axis in (0, 1)
    ]
    channels = rows // taps
    single = np.tile(np.eye(taps, dtype=np.float32).reshape(taps, 1, *kernel), (channels, 1, 1, 1))
    spread = site.reshaped(x, [batch, rows, *counts])
    reached = [(counts[a] - 1) * stride[a] + dilation[a] * (kernel[a] - 1) + 1 - 2 * padding[a] for a in (0, 1)]
    return site.step(
        "ConvTranspose",
        spread,
        site.constant(single, "taps"),
        strides=stride,
        pads=padding * 2,
        dilations=dilation,
        group=channels,
        kernel_shape=kernel,
        output_padding=[size[a] - reached[a] for a in (0, 1)],
    )


@aten("as_strided.default")
def as_strided(site: Site):
    """Where the strides only cut, reorder or repeat what is laid out in rows: picking from the flattened image."""
    x, sizes, strides = site.tensor("self"), site.plain("size"), site.plain("stride")
    layout = site.layout_of("self")
    if layout is None or not layout.is_dense() or layout.offset:
        site.refuse("reads the memory of a tensor that does not lie in rows from its beginning")
    shape, offset = site.type_of(x).shape, site.plain("storage_offset") or 0
    inner = int(np.prod(shape[1:], dtype=np.int64))
    if not sizes or sizes[0] != shape[0] or strides[0] != inner or offset >= inner:
        site.refuse("reads memory across the images of a batch")
    site.check_count(sizes[1:])
    places = np.full([1] * (len(sizes) - 1), offset)
    for axis, (size, stride) in enumerate(zip(sizes[1:], strides[1:])):
        steps = np.arange(size) * stride
        places = places + steps.reshape([-1 if at == axis else 1 for at in range(len(sizes) - 1)])
    if places.size and places.max() >= inner:
        site.refuse("reads memory across the images of a batch")
    flat = site.reshaped(x, [shape[0], inner])
    return site.step("Gather", flat, site.constant(places.astype(np.int64), "places"), axis=1)
