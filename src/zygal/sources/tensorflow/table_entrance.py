"""What graphs do to images before the model proper: each step of an inlet, and loops over the images of a batch."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np

from zygal.inlet.specification import Resize
from zygal.sources.layouts import View
from zygal.sources.tensorflow.pixels import FOLLOWED, EachImage, Encoded, Pixels, Sizes, batched
from zygal.sources.tensorflow.site import NodeSite, operator
from zygal.sources.tensorflow.table_indexing import entries, masks_of

STEPS: dict[str, Callable[[NodeSite], Any]] = {}
"""The operators that images on their way in may meet. Each gives what it makes, or None to be handed a tensor."""


def step(*names: str) -> Callable:
    def enter(handler: Callable[[NodeSite], Any]) -> Callable[[NodeSite], Any]:
        STEPS.update(dict.fromkeys(names, handler))
        return handler

    return enter


def unclear(site: NodeSite) -> Any:
    given = next(each for each in site.inputs if isinstance(each, FOLLOWED))
    return site.refuse(
        f"works on {'encoded images' if isinstance(given, Encoded) else 'a list of images'} in a way that is "
        f"not supported"
    )


@step("Identity", "StopGradient", "EnsureShape", "PreventGradient")
def passed_on(site: NodeSite) -> Any:
    return site.inputs[0]


@step("DecodeJpeg", "DecodePng", "DecodeImage", "DecodeBmp", "DecodeAndCropJpeg")
def decoded(site: NodeSite) -> Any:
    if not isinstance(site.inputs[0], Encoded):
        return None
    channels = int(site.attribute("channels", 0) or 0)
    plain = (
        site.attribute("dtype", 4) in (None, 4)
        and int(site.attribute("ratio", 1) or 1) == 1
        and site.kind != "DecodeAndCropJpeg"
    )
    method = site.attribute("dct_method", "") or ""
    decoder = site.kind if method in ("", "INTEGER_FAST") else "accurate"
    return Pixels(channels or 3, decoder=decoder, unclear=None if plain and channels in (1, 3) else site.kind)


@step("DecodeBase64", "ParseExample", "ParseExampleV2", "ParseSingleExample", "ParseSingleExampleV2")
def text_passed_on(site: NodeSite) -> Any:
    return [Encoded()] * 64 if isinstance(site.inputs[0], Encoded) else None


@step("Shape", "Size", "Rank", "ShapeN")
def sizes(site: NodeSite) -> Any:
    pixels = site.inputs[0]
    return None if isinstance(pixels, Pixels) and pixels.size is not None else Sizes()


@step("Reshape", "Squeeze", "ExpandDims", "Pack")
def axes(site: NodeSite) -> Any:
    given = next(each for each in site.inputs if isinstance(each, FOLLOWED))
    if isinstance(given, Pixels) and site.inputs[0] is given:
        if site.kind == "Reshape":
            wanted = site.contents(site.inputs[1].name) if isinstance(site.inputs[1], View) else None
            return replace(given, axes=len(wanted)) if wanted is not None else given
        return replace(given, axes=given.axes + (-1 if site.kind == "Squeeze" else 1))
    return given if isinstance(given, Encoded | EachImage) else Sizes()


@step("StridedSlice")
def cut(site: NodeSite) -> Any:
    """Of images only a new axis, and the order of the channels turned round."""
    given = site.inputs[0]
    if not isinstance(given, Pixels):
        return parts(site)
    done = entries(site, masks_of(site), given.axes)
    whole = ("cut", None, None, 1)
    new = sum(each[0] == "new" for each in done)
    rest = [each for each in done if each[0] != "new"]
    turned = len(rest) == given.axes and rest[-1] == ("cut", None, None, -1)
    if any(each != whole for each in (rest[:-1] if turned else rest)):
        return None
    given = replace(given, axes=given.axes + new)
    if not turned:
        return given
    return replace(given, reversed=not given.reversed, factor=given.factor[::-1], offset=given.offset[::-1])


@step("Slice", "Gather", "GatherV2", "Unpack")
def parts(site: NodeSite) -> Any:
    given = site.inputs[0]
    if isinstance(given, Encoded):
        return [Encoded()] * 64
    return None if isinstance(given, Pixels) else Sizes()


@step("Cast")
def converted(site: NodeSite) -> Any:
    given, target = site.inputs[0], site.dtype("DstT")
    if not isinstance(given, Pixels):
        return Sizes() if isinstance(given, Sizes) else None
    if target.kind == "f":
        return replace(given, whole=False)
    if given.whole:
        return given
    if given.resize is not None and given.factor == (1.0,) and given.offset == (0.0,) and target == np.uint8:
        return replace(given, whole=True, resize=replace(given.resize, rounding="down"))
    return replace(given, unclear=given.unclear or "Cast")


@step("ReverseV2", "Reverse")
def channels_reversed(site: NodeSite) -> Any:
    given = site.inputs[0]
    if not isinstance(given, Pixels) or site.axes(1, given.axes) != [given.axes - 1] or given.channels != 3:
        return None
    return replace(given, reversed=not given.reversed, factor=given.factor[::-1], offset=given.offset[::-1])


def _arithmetic(kinds: tuple[str, ...], line: Callable) -> None:
    @step(*kinds)
    def scaled(site: NodeSite) -> Any:
        left, right = site.inputs
        if isinstance(left, Sizes) or isinstance(right, Sizes):
            return Sizes()
        turned = isinstance(right, Pixels)
        pixels, other = (right, left) if turned else (left, right)
        number = site.array(other.name) if isinstance(other, View) else None
        if not isinstance(pixels, Pixels) or number is None or number.size not in (1, pixels.channels):
            return None
        made = line(np.array(pixels.factor), np.array(pixels.offset), number.astype(np.float64).reshape(-1), turned)
        return (
            None
            if made is None
            else replace(
                pixels,
                factor=tuple(map(float, made[0] + 0 * made[1])),
                offset=tuple(map(float, made[1] + 0 * made[0])),
                whole=False,
            )
        )


_arithmetic(("Mul",), lambda f, o, n, turned: (f * n, o * n))
_arithmetic(("Add", "AddV2", "BiasAdd"), lambda f, o, n, turned: (f, o + n))
_arithmetic(("Sub",), lambda f, o, n, turned: (-f, n - o) if turned else (f, o - n))
_arithmetic(("RealDiv", "Div"), lambda f, o, n, turned: None if turned or not np.all(n) else (f / n, o / n))

_FILTERS = {
    "ResizeBilinear": "bilinear",
    "ResizeNearestNeighbor": "nearest",
    "ResizeBicubic": "bicubic",
    "ResizeArea": "area",
}


@step(*_FILTERS)
def resized(site: NodeSite) -> Any:
    pixels = site.inputs[0]
    if not isinstance(pixels, Pixels):
        return None
    wanted = site.known(1) if isinstance(site.inputs[1], View) else None
    if wanted is None or pixels.size is not None or pixels.axes != 4:
        return replace(pixels, unclear=pixels.unclear or site.kind) if pixels.size is None else None
    height, width = (int(each) for each in wanted.reshape(-1))
    corners, centres = bool(site.attribute("align_corners", False)), bool(site.attribute("half_pixel_centers", False))
    grid = "corners" if corners else "half-pixel" if centres else "asymmetric"
    shape = {"filter": _FILTERS[site.kind], "size": (height, width), "grid": grid}
    if site.kind == "ResizeNearestNeighbor":
        return replace(pixels, size=(height, width), resize=Resize(**shape, scale="float32"))
    exact = site.kind == "ResizeBilinear" or site.kind == "ResizeArea"
    resize = (
        Resize(**shape, antialias=False, rounding="none")
        if site.kind != "ResizeArea"
        else Resize(filter="area", size=(height, width), rounding="none")
    )
    # The framework's cubic weights are rounded to steps of its own, which no inlet states.
    return replace(
        pixels,
        size=(height, width),
        resize=resize,
        whole=False,
        unclear=pixels.unclear or (None if exact else site.kind),
    )


@step("ScaleAndTranslate")
def resized_by_filter(site: NodeSite) -> Any:
    pixels = site.inputs[0]
    wanted = site.known(1) if isinstance(pixels, Pixels) and isinstance(site.inputs[1], View) else None
    if wanted is None or pixels.axes != 4:
        return None if not isinstance(pixels, Pixels) else replace(pixels, unclear=pixels.unclear or site.kind)
    size = tuple(int(each) for each in wanted.reshape(-1))
    names = {
        "triangle": "bilinear",
        "keyscubic": "bicubic",
        "lanczos3": "lanczos",
        "lanczos5": "lanczos5",
        "mitchellcubic": "mitchell",
    }
    name = names.get(site.attribute("kernel_type", "lanczos3"))
    resize = Resize(
        filter=name or "bilinear", size=size, antialias=bool(site.attribute("antialias", True)), rounding="none"
    )
    return replace(
        pixels, size=size, resize=resize, whole=False, unclear=pixels.unclear or (None if name else site.kind)
    )


# Loops over the images of a batch, of both generations


@step("TensorListFromTensor", "TensorArrayScatterV3")
def listed(site: NodeSite) -> Any:
    return EachImage(site.inputs[2] if site.kind == "TensorArrayScatterV3" else site.inputs[0])


@step("TensorListGetItem")
def one_of_list(site: NodeSite) -> Any:
    given = site.inputs[0]
    return given.of if isinstance(given, EachImage) else None


@step("TensorListSetItem")
def put_into_list(site: NodeSite) -> Any:
    return EachImage(site.inputs[2])


@step("TensorListStack")
def stacked(site: NodeSite) -> Any:
    return batched(site.inputs[0].of, site) if isinstance(site.inputs[0], EachImage) else None


@operator("TensorListReserve", "EmptyTensorList", "TensorArrayV3")
def empty_list(call: NodeSite) -> EachImage:
    for name in (
        "element_dtype",
        "shape_type",
        "element_shape",
        "dynamic_size",
        "clear_after_read",
        "identical_element_shapes",
        "tensor_array_name",
    ):
        call.attribute(name)
    return EachImage(None)
