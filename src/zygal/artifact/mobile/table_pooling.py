"""Pooling images whose channels come last, and enlarging them."""

from __future__ import annotations

import numpy as np

from zygal.artifact.mobile.site import Site, spelt
from zygal.artifact.mobile.views import View, channels_last
from zygal.artifact.mobile.windows import Windows, as_before, as_image, padded, with_row
from zygal.graph import Batch
from zygal.graph.ops import operator_named
from zygal.graph.ops.resampling import resampling_matrix
from zygal.mobile.schema import VALID

LOWEST = float(np.finfo(np.float32).min)


@spelt("MaxPool", "AveragePool")
def pooling(site: Site) -> View:
    if site.view().rank == 5:
        return _along_one_axis(site)
    view, was_row = as_image(site, site.view())
    x, given = site.image(view), site.attributes()
    if site.node.operator == "AveragePool":
        if was_row:
            given = {
                name: with_row(name, value) if isinstance(value, (list, tuple)) else value
                for name, value in given.items()
            }
        return as_before(site, _mean_of_windows(site, x, given), was_row)
    windows = Windows(site, x, given, given["kernel_shape"], was_row)
    geometry = windows.geometry
    if max(geometry.dilations) > 1:
        site.refuse("has dilated windows")
    if not windows.same:
        x = padded(
            site,
            x,
            windows.border,
            LOWEST if site.made().dtype == np.float32 else float(np.iinfo(site.made().dtype).min),
        )
    sizes = (site.shape_of(x)[0], *windows.counts, site.shape_of(x)[3])
    made = site.step(
        "MAX_POOL_2D",
        [x],
        sizes,
        site.made().dtype,
        filter_h=geometry.kernel[0],
        filter_w=geometry.kernel[1],
        **windows.options(dilated=False),
    )
    return as_before(site, made, was_row)


def _along_one_axis(site: Site) -> View:
    """The mean over neighbouring channels, which training code states as windows [k, 1, 1] over a volume of one
    channel."""
    given, shape, view = site.attributes(), site.type().shape, site.view()
    pads = given["pads"] or [0] * 6
    settings = [
        *given["kernel_shape"][1:],
        *(given["strides"] or [1, 1, 1])[1:],
        *(each + 1 for at, each in enumerate(pads) if at % 3),
    ]
    if (
        site.node.operator != "AveragePool"
        or shape[1] != 1
        or max(settings) > 1
        or given["ceil_mode"]
        or not isinstance(shape[0], Batch)
    ):
        site.refuse("has windows over three axes")
    # The axis that is pooled as the width of an image of one channel; the others are its height.
    order = tuple(axis for axis in view.order if axis not in (1, 2)) + (2, 1)
    x = site.in_order(view, order)
    n, depth = shape[0], int(shape[2])
    count = int(shape[3]) * int(shape[4])
    rows = site.reshape_tensor(x, (n, count, depth, 1))
    attributes = {
        "kernel_shape": [1, given["kernel_shape"][0]],
        "strides": [1, (given["strides"] or [1])[0]],
        "pads": [0, pads[0], 0, pads[3]],
        "ceil_mode": 0,
        "count_include_pad": given["count_include_pad"],
    }
    made = _mean_of_windows(site, rows, attributes)
    return View(order, site.reshape_tensor(made, site.sizes_in(order)))


def _mean_of_windows(site: Site, x: int, given) -> int:
    windows = Windows(site, x, given, given["kernel_shape"], False)
    counted = not windows.none and (not windows.same or bool(given["count_include_pad"]))
    if counted:
        x = padded(site, x, windows.border)
    options = windows.options(dilated=False)
    if counted:
        options["padding"] = VALID
    sizes, kernel = (site.shape_of(x)[0], *windows.counts, site.shape_of(x)[3]), windows.geometry.kernel
    made = site.step("AVERAGE_POOL_2D", [x], sizes, np.float32, filter_h=kernel[0], filter_w=kernel[1], **options)
    return _recounted(site, made, given, windows) if counted else made


def _recounted(site: Site, made: int, given, windows: Windows) -> int:
    """A mean that took all of a window for its pixels, as one of those that count."""
    ones = np.ones((1, 1, *windows.sizes), np.float32)
    attributes = {
        "kernel_shape": windows.geometry.kernel,
        "strides": windows.geometry.strides,
        "ceil_mode": given["ceil_mode"],
        "pads": [each for pair in zip(*windows.geometry.pads) for each in pair],
        "count_include_pad": given["count_include_pad"],
    }
    operator = operator_named("AveragePool")
    (meant,) = operator.compute([ones], attributes)
    whole = {
        **attributes,
        "pads": [begin for begin, _ in windows.border] + [end for _, end in windows.border],
        "ceil_mode": 0,
        "count_include_pad": 1,
    }
    (taken,) = operator.compute([ones], whole)
    factor = np.divide(meant, taken, out=np.ones_like(meant), where=taken != 0)
    if np.allclose(factor, 1, atol=1e-7):
        return made
    return site.binary("MUL", made, site.constant(factor.transpose(0, 2, 3, 1).astype(np.float32), "counts"))


@spelt("GlobalAveragePool")
def global_mean(site: Site) -> View:
    view = site.view()
    order = view.order if view.order[0] == 0 and view.array is None else channels_last(view.rank)
    x = site.in_order(view, order)
    places = [at for at, axis in enumerate(order) if axis > 1]
    return View(order, site.step("MEAN", [x, site.numbers(places)], site.sizes_in(order), np.float32, keep_dims=True))


@spelt("DepthToSpace", "SpaceToDepth")
def blocks(site: Site) -> View:
    order, given = channels_last(4), site.attributes()
    if given.get("mode", "DCR") != "DCR":
        return _unshuffled(site, given["blocksize"])
    name = "DEPTH_TO_SPACE" if site.node.operator == "DepthToSpace" else "SPACE_TO_DEPTH"
    return View(
        order,
        site.step(
            name, [site.image(site.view())], site.sizes_in(order), site.made().dtype, block_size=given["blocksize"]
        ),
    )


def _unshuffled(site: Site, block: int) -> View:
    """Channels whose inner part is the place in the block: put in front first."""
    x = site.image(site.view())
    *_, channels = site.shape_of(x)
    outer = channels // block**2
    places = np.arange(channels).reshape(outer, block**2).T.reshape(-1).astype(np.int32)
    transposed = site.step(
        "GATHER", [x, site.constant(places, "places")], site.shape_of(x), site.dtype_of(x), axis=3, batch_dims=0
    )
    order = channels_last(4)
    return View(
        order,
        site.step("DEPTH_TO_SPACE", [transposed], site.sizes_in(order), site.made().dtype, block_size=block),
    )


@spelt("Resize")
def enlarged(site: Site) -> View:
    given, order = site.attributes(), channels_last(4)
    mode, grid = given["mode"], given["coordinate_transformation_mode"]
    x, sizes = site.image(site.view()), site.sizes_in(order)
    if mode == "nearest" and grid in ("asymmetric", "half_pixel"):
        # By whole factors both take the pixel that an output lies in.
        return View(
            order, site.step("RESIZE_NEAREST_NEIGHBOR", [x, site.numbers(sizes[1:3])], sizes, site.made().dtype)
        )
    if mode == "linear":
        options = {"align_corners": grid == "align_corners", "half_pixel_centers": grid == "half_pixel"}
        version = 3 if grid == "half_pixel" else 1
        return View(
            order,
            site.step("RESIZE_BILINEAR", [x, site.numbers(sizes[1:3])], sizes, site.made().dtype, version, **options),
        )
    n, height, width, channels = site.shape_of(x)
    rows, columns = (
        resampling_matrix(size, wanted, mode, grid).astype(np.float32)
        for size, wanted in ((height, sizes[1]), (width, sizes[2]))
    )
    lines = site.reshape_tensor(x, (n, height, width * channels))
    tall = site.step(
        "BATCH_MATMUL", [site.constant(rows[None], "rows"), lines], (n, sizes[1], width * channels), np.float32
    )
    image = site.reshape_tensor(tall, (n, sizes[1], width, channels))
    return View(
        order, site.step("BATCH_MATMUL", [site.constant(columns[None, None], "columns"), image], sizes, np.float32)
    )
