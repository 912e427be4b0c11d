"""Convolutions and pooling of images whose channels come last, and enlarging them."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from zygal.artifact.mobile.lowering import Site, spelt
from zygal.artifact.mobile.views import View, channels_last
from zygal.graph import Batch
from zygal.graph.ops import operator_named
from zygal.graph.ops.resampling import resampling_matrix
from zygal.graph.ops.windows import Geometry, same_pads
from zygal.mobile.schema import SAME, VALID

LOWEST = float(np.finfo(np.float32).min)


def _flat(site: Site, view: View) -> tuple[View, bool]:
    """A row of places as an image of one row."""
    if view.rank == 4:
        return view, False
    if view.rank != 3:
        site.refuse(f"works on images with {view.rank - 2} axes")
    x = site.image(view)
    n, length, channels = site.shape_of(x)
    return View(channels_last(4), site.reshape_tensor(x, (n, 1, length, channels))), True


def _unflattened(site: Site, tensor: int, was_row: bool) -> View:
    if not was_row:
        return View(channels_last(4), tensor)
    n, _, length, channels = site.shape_of(tensor)
    return View(channels_last(3), site.reshape_tensor(tensor, (n, length, channels)))


def padded(site: Site, x: int, pads: Sequence[tuple[int, int]], value: float = 0.0) -> int:
    """An image with a border of one number along height and width."""
    if not any(map(any, pads)):
        return x
    n, height, width, channels = site.shape_of(x)
    sizes = (n, height + sum(pads[0]), width + sum(pads[1]), channels)
    table = site.numbers([[0, 0], *map(list, pads), [0, 0]])
    if value == 0:
        return site.step("PAD", [x, table], sizes, site.dtype_of(x))
    return site.step("PADV2", [x, table, site.number(value, x)], sizes, site.dtype_of(x))


class _Windows:
    """How windows slide over an image with its channels last: what padding of the format's own does it, else what border it needs."""

    def __init__(self, site: Site, x: int, attributes, kernel: Sequence[int], was_row: bool):
        if was_row:
            attributes = {name: _with_row(name, value) if isinstance(value, (list, tuple)) else value for name, value in attributes.items()}
            kernel = (1, *kernel)[-2:]
        self.geometry = geometry = Geometry.of(attributes, kernel)
        self.sizes = site.shape_of(x)[1:3]
        self.counts = geometry.counts(self.sizes)
        begins, ends = zip(*geometry.pads)
        same = same_pads(self.sizes, kernel, geometry.strides, geometry.dilations)
        ours = [-(-size // stride) for size, stride in zip(self.sizes, geometry.strides)]
        needed = [
            (count - 1) * stride + dilation * (k - 1) + 1 - size - begin
            for count, stride, dilation, k, size, begin in zip(self.counts, geometry.strides, geometry.dilations, geometry.kernel, self.sizes, begins)
        ]
        self.none = not any(begins) and all(each <= 0 for each in needed)
        self.same = not self.none and list(self.counts) == ours and list(begins) == same[:2] and all(
            max(need, 0) == wanted for need, wanted in zip(needed, same[2:])
        )
        self.border = [(begin, max(need, 0)) for begin, need in zip(begins, needed)]

    @property
    def padding(self) -> int:
        return SAME if self.same else VALID

    def options(self, dilated: bool = True) -> dict[str, int]:
        geometry = self.geometry
        options = {"padding": self.padding, "stride_h": geometry.strides[0], "stride_w": geometry.strides[1], "activation": 0}
        if dilated:
            options.update(dilation_h=geometry.dilations[0], dilation_w=geometry.dilations[1])
        return options


def _with_row(name: str, value: Sequence[int]) -> list[int]:
    """A setting of one axis as that of two."""
    if name == "pads":
        return [0, value[0], 0, value[1]]
    return [1, *value] if len(value) == 1 else list(value)


@spelt("Conv")
def convolution(site: Site) -> View:
    weight = site.array(1)
    if weight is None:
        site.refuse("has kernels that depend on the image")
    if weight.ndim == 5:
        return _over_a_volume(site, weight)
    view, was_row = _flat(site, site.view())
    if was_row:
        weight = weight[:, :, None]
    x, group = site.image(view), site.attributes()["group"]
    windows = _Windows(site, x, site.attributes(), weight.shape[2:], was_row)
    if not windows.same:
        x = padded(site, x, windows.border)
    bias = site.array(2) if site.has(2) else np.zeros(weight.shape[0], weight.dtype)
    if bias is None:
        site.refuse("has a bias that depends on the image")
    sizes = (site.shape_of(x)[0], *windows.counts, weight.shape[0])
    channels, options = site.shape_of(x)[3], windows.options()
    depthwise = group == channels and group > 1
    if depthwise:
        kernel = site.weight(1, weight, (1, 2, 3, 0), "kernel")
        options["depth_multiplier"] = weight.shape[0] // channels
        version = 2 if max(windows.geometry.dilations) > 1 else 1
    else:
        kernel = site.weight(1, weight, (0, 2, 3, 1), "kernel")
        version = 6 if group > 1 else 1
    operator = "DEPTHWISE_CONV_2D" if depthwise else "CONV_2D"
    addend = site.weight(2, bias, (0,), "bias") if site.has(2) else site.constant(bias, "bias")
    made = site.step(operator, [x, kernel, addend], sizes, np.float32, version, **options)
    return _unflattened(site, made, was_row)


def _over_a_volume(site: Site, weight: np.ndarray) -> View:
    """Kernels [depth, height, width, inputs, outputs] over images with three axes."""
    given, order = site.attributes(), channels_last(5)
    geometry = Geometry.of(given, weight.shape[2:])
    if given["group"] != 1 or site.has(2) and site.array(2) is None:
        site.refuse("has groups of channels on images with 3 axes")
    x = site.image(site.view())
    if any(map(any, geometry.pads)):
        n, *sizes, channels = site.shape_of(x)
        table = site.numbers([[0, 0], *map(list, geometry.pads), [0, 0]])
        x = site.step("PAD", [x, table], (n, *(size + sum(pair) for size, pair in zip(sizes, geometry.pads)), channels), np.float32)
    bias = site.array(2) if site.has(2) else np.zeros(len(weight), weight.dtype)
    options = {f"{what}_{axis}": value for what, values in (("stride", geometry.strides), ("dilation", geometry.dilations)) for axis, value in zip("dhw", values)}
    inputs = [x, site.constant(weight.transpose(2, 3, 4, 1, 0), "kernel"), site.constant(bias, "bias")]
    return View(order, site.step("CONV_3D", inputs, site.stored(order), np.float32, padding=VALID, activation=0, **options))


@spelt("ConvTranspose")
def enlarging_convolution(site: Site) -> View:
    """As a convolution over the image with zeros between its pixels, so that the batch stays open."""
    weight = site.array(1)
    if weight is None:
        site.refuse("has kernels that depend on the image")
    view, was_row = _flat(site, site.view())
    if was_row:
        weight = weight[:, :, None]
    attributes = {name: _with_row(name, value) if was_row and isinstance(value, (list, tuple)) else value for name, value in site.attributes().items()}
    if was_row and attributes.get("output_padding"):
        attributes["output_padding"][0] = 0
    geometry, group = Geometry.of(attributes, weight.shape[2:]), attributes["group"]
    extra = attributes["output_padding"] or (0, 0)
    x = site.image(view)
    for axis in (0, 1):
        x = _spaced(site, x, axis, geometry.strides[axis])
    # The gradient of a convolution is the convolution by the turned kernel over a border of what the kernel reaches.
    reaches = [dilation * (k - 1) for dilation, k in zip(geometry.dilations, geometry.kernel)]
    border = [(reach - begin, reach - end + more) for reach, (begin, end), more in zip(reaches, geometry.pads, extra)]
    x = _framed(site, x, border)
    split = weight.reshape(group, -1, *weight.shape[1:])[..., ::-1, ::-1]
    kernel = split.transpose(0, 2, 3, 4, 1).reshape(-1, *weight.shape[2:], split.shape[1])
    bias = site.array(2) if site.has(2) else np.zeros(len(kernel), np.float32)
    n, height, width, _ = site.shape_of(x)
    sizes = (n, *(size - reach for size, reach in zip((height, width), reaches)), len(kernel))
    options = {"padding": VALID, "stride_h": 1, "stride_w": 1, "activation": 0, "dilation_h": geometry.dilations[0], "dilation_w": geometry.dilations[1]}
    made = site.step("CONV_2D", [x, site.constant(kernel, "kernel"), site.constant(bias, "bias")], sizes, np.float32, 6 if group > 1 else 1, **options)
    return _unflattened(site, made, was_row)


def _spaced(site: Site, x: int, axis: int, step: int) -> int:
    """An image with step - 1 zeros between each two pixels along height (axis 0) or width."""
    if step == 1:
        return x
    n, height, width, channels = site.shape_of(x)
    size = (height, width)[axis]
    ahead = 1 if axis == 0 else height
    inner = width * channels if axis == 0 else channels
    rows = site.reshape_tensor(x, (n, ahead * size, 1, inner))
    wide = padded(site, rows, [(0, 0), (0, step - 1)])
    sizes = (n, size * step, width, channels) if axis == 0 else (n, height, size * step, channels)
    made = site.reshape_tensor(wide, sizes)
    return _framed(site, made, [(0, 1 - step), (0, 0)] if axis == 0 else [(0, 0), (0, 1 - step)])


def _framed(site: Site, x: int, border: Sequence[tuple[int, int]]) -> int:
    """An image with a border of zeros, or cut off where the border is negative."""
    x = padded(site, x, [tuple(max(each, 0) for each in pair) for pair in border])
    cut = [tuple(max(-each, 0) for each in pair) for pair in border]
    if not any(map(any, cut)):
        return x
    n, height, width, channels = site.shape_of(x)
    sizes = [height - sum(cut[0]), width - sum(cut[1])]
    begins = site.numbers([0, cut[0][0], cut[1][0], 0])
    return site.step("SLICE", [x, begins, site.numbers([-1, *sizes, -1])], (n, *sizes, channels), site.dtype_of(x))


@spelt("MaxPool", "AveragePool")
def pooling(site: Site) -> View:
    if site.view().rank == 5:
        return _along_one_axis(site)
    view, was_row = _flat(site, site.view())
    x, given = site.image(view), site.attributes()
    if site.node.operator == "AveragePool":
        if was_row:
            given = {name: _with_row(name, value) if isinstance(value, (list, tuple)) else value for name, value in given.items()}
        return _unflattened(site, _mean_of_windows(site, x, given), was_row)
    windows = _Windows(site, x, given, given["kernel_shape"], was_row)
    geometry = windows.geometry
    if max(geometry.dilations) > 1:
        site.refuse("has dilated windows")
    if not windows.same:
        x = padded(site, x, windows.border, LOWEST if site.made().dtype == np.float32 else float(np.iinfo(site.made().dtype).min))
    sizes = (site.shape_of(x)[0], *windows.counts, site.shape_of(x)[3])
    made = site.step("MAX_POOL_2D", [x], sizes, site.made().dtype, filter_h=geometry.kernel[0], filter_w=geometry.kernel[1], **windows.options(dilated=False))
    return _unflattened(site, made, was_row)


def _along_one_axis(site: Site) -> View:
    """The mean over neighbouring channels, which training code states as windows [k, 1, 1] over a volume of one channel."""
    given, shape, view = site.attributes(), site.type().shape, site.view()
    pads = given["pads"] or [0] * 6
    settings = [*given["kernel_shape"][1:], *(given["strides"] or [1, 1, 1])[1:], *(each + 1 for at, each in enumerate(pads) if at % 3)]
    if site.node.operator != "AveragePool" or shape[1] != 1 or max(settings) > 1 or given["ceil_mode"] or not isinstance(shape[0], Batch):
        site.refuse("has windows over three axes")
    # The axis that is pooled as the width of an image of one channel; the others are its height.
    order = tuple(axis for axis in view.order if axis not in (1, 2)) + (2, 1)
    x = site.laid(view, order)
    n, depth = shape[0], int(shape[2])
    count = int(shape[3]) * int(shape[4])
    rows = site.reshape_tensor(x, (n, count, depth, 1))
    attributes = {"kernel_shape": [1, given["kernel_shape"][0]], "strides": [1, (given["strides"] or [1])[0]], "pads": [0, pads[0], 0, pads[3]],
                  "ceil_mode": 0, "count_include_pad": given["count_include_pad"]}  # fmt: skip
    made = _mean_of_windows(site, rows, attributes)
    return View(order, site.reshape_tensor(made, site.stored(order)))


def _mean_of_windows(site: Site, x: int, given) -> int:
    windows = _Windows(site, x, given, given["kernel_shape"], False)
    counted = not windows.none and (not windows.same or bool(given["count_include_pad"]))
    if counted:
        x = padded(site, x, windows.border)
    options = windows.options(dilated=False)
    if counted:
        options["padding"] = VALID
    sizes, kernel = (site.shape_of(x)[0], *windows.counts, site.shape_of(x)[3]), windows.geometry.kernel
    made = site.step("AVERAGE_POOL_2D", [x], sizes, np.float32, filter_h=kernel[0], filter_w=kernel[1], **options)
    return _recounted(site, made, given, windows) if counted else made


def _recounted(site: Site, made: int, given, windows: _Windows) -> int:
    """A mean that took all of a window for its pixels, as one of those that count."""
    ones = np.ones((1, 1, *windows.sizes), np.float32)
    attributes = {"kernel_shape": windows.geometry.kernel, "strides": windows.geometry.strides, "ceil_mode": given["ceil_mode"],
                  "pads": [each for pair in zip(*windows.geometry.pads) for each in pair], "count_include_pad": given["count_include_pad"]}  # fmt: skip
    operator = operator_named("AveragePool")
    (meant,) = operator.compute([ones], attributes)
    whole = {**attributes, "pads": [begin for begin, _ in windows.border] + [end for _, end in windows.border], "ceil_mode": 0, "count_include_pad": 1}
    (taken,) = operator.compute([ones], whole)
    factor = np.divide(meant, taken, out=np.ones_like(meant), where=taken != 0)
    if np.allclose(factor, 1, atol=1e-7):
        return made
    return site.binary("MUL", made, site.constant(factor.transpose(0, 2, 3, 1).astype(np.float32), "counts"))


@spelt("GlobalAveragePool")
def global_mean(site: Site) -> View:
    view = site.view()
    order = view.order if view.order[0] == 0 and view.array is None else channels_last(view.rank)
    x = site.laid(view, order)
    places = [at for at, axis in enumerate(order) if axis > 1]
    return View(order, site.step("MEAN", [x, site.numbers(places)], site.stored(order), np.float32, keep_dims=True))


@spelt("DepthToSpace", "SpaceToDepth")
def blocks(site: Site) -> View:
    order, given = channels_last(4), site.attributes()
    if given.get("mode", "DCR") != "DCR":
        return _unshuffled(site, given["blocksize"])
    name = "DEPTH_TO_SPACE" if site.node.operator == "DepthToSpace" else "SPACE_TO_DEPTH"
    return View(order, site.step(name, [site.image(site.view())], site.stored(order), site.made().dtype, block_size=given["blocksize"]))


def _unshuffled(site: Site, block: int) -> View:
    """Channels whose inner part is the place in the block: put in front first."""
    x = site.image(site.view())
    *_, channels = site.shape_of(x)
    outer = channels // block**2
    places = np.arange(channels).reshape(outer, block**2).T.reshape(-1).astype(np.int32)
    turned = site.step("GATHER", [x, site.constant(places, "places")], site.shape_of(x), site.dtype_of(x), axis=3, batch_dims=0)
    order = channels_last(4)
    return View(order, site.step("DEPTH_TO_SPACE", [turned], site.stored(order), site.made().dtype, block_size=block))


@spelt("Resize")
def enlarged(site: Site) -> View:
    given, order = site.attributes(), channels_last(4)
    mode, grid = given["mode"], given["coordinate_transformation_mode"]
    x, sizes = site.image(site.view()), site.stored(order)
    if mode == "nearest" and grid in ("asymmetric", "half_pixel"):
        # By whole factors both take the pixel that an output lies in.
        return View(order, site.step("RESIZE_NEAREST_NEIGHBOR", [x, site.numbers(sizes[1:3])], sizes, site.made().dtype))
    if mode == "linear":
        options = {"align_corners": grid == "align_corners", "half_pixel_centers": grid == "half_pixel"}
        version = 3 if grid == "half_pixel" else 1
        return View(order, site.step("RESIZE_BILINEAR", [x, site.numbers(sizes[1:3])], sizes, site.made().dtype, version, **options))
    n, height, width, channels = site.shape_of(x)
    rows, columns = (resampling_matrix(size, wanted, mode, grid).astype(np.float32) for size, wanted in ((height, sizes[1]), (width, sizes[2])))
    lines = site.reshape_tensor(x, (n, height, width * channels))
    tall = site.step("BATCH_MATMUL", [site.constant(rows[None], "rows"), lines], (n, sizes[1], width * channels), np.float32)
    image = site.reshape_tensor(tall, (n, sizes[1], width, channels))
    return View(order, site.step("BATCH_MATMUL", [site.constant(columns[None, None], "columns"), image], sizes, np.float32))
