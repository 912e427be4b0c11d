"""Images that come in encoded: what a graph does to them before the model proper, read off as an inlet.

The images are followed as values that only remember what was done to them. The first operator that is no step of an inlet gets
a tensor instead, and that is where the converted model begins. Loops over the images of a batch are gone through once.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from zygal.errors import InletError
from zygal.graph import Batch, TensorType
from zygal.inlet import Inlet
from zygal.inlet.specification import Decode, Resize, Tensor, Values
from zygal.sources.layouts import View
from zygal.sources.tensorflow.site import NodeSite, Value, operator
from zygal.sources.tensorflow.table_indexing import entries, masks_of

LEVELS = 255.0


@dataclass(frozen=True)
class Encoded:
    """Image files as text."""


@dataclass(frozen=True)
class Sizes:
    """Sizes of images before they are made alike; nothing is known of them."""


@dataclass(frozen=True)
class EachImage:
    """A list of what is made of each image. of: what; None where nothing has been put into it yet."""

    of: Value | Encoded | None


@dataclass(frozen=True)
class Pixels:
    """A decoded image. size: height and width, once they are known. factor, offset: what was done to the levels of 0 to 255, a
    number a channel. whole: whether it still holds whole levels. axes: without the batch 3, with it 4. unclear: the first step
    that no inlet states."""

    channels: int
    size: tuple[int, int] | None = None
    resize: Resize | None = None
    factor: tuple[float, ...] = (1.0,)
    offset: tuple[float, ...] = (0.0,)
    reversed: bool = False
    whole: bool = True
    axes: int = 3
    decoder: str = "DecodeJpeg"
    unclear: str | None = None


ON_THE_WAY = frozenset((
    "Add", "AddV2", "Assert", "BiasAdd", "Cast", "ClipByValue", "ConcatV2", "CropAndResize", "Div", "Equal", "FloorDiv", "FloorMod", "Gather",
    "GatherV2", "Greater", "GreaterEqual", "Less", "LessEqual", "LogicalAnd", "Maximum", "Mean", "Minimum", "MirrorPad", "Mul", "Pack", "Pad",
    "PadV2", "Prod", "RealDiv", "Reshape", "ReverseV2", "Round", "Select", "SelectV2", "Slice", "Split", "SplitV", "StridedSlice", "Sub", "Tile",
    "Transpose",
))  # fmt: skip
"""What cropping and padding are made of. Anything else on images of any size is no preprocessing."""
FOLLOWED = (Encoded, Sizes, EachImage, Pixels)


class Entrance:
    """What stands between the files and the model of one graph. taken, view: what was done to the images where the model begins,
    and its input there; None before that is known. inlet: None where it cannot be stated as one."""

    def __init__(self, where: str):
        self._where, self.taken, self.view = where, None, None

    def takes(self, inputs: list[Value]) -> bool:
        return any(isinstance(each, FOLLOWED) for each in inputs)

    def made(self, site: NodeSite) -> Value | list[Value] | None:
        """What a step makes of images on their way in; None if the operator is no such step, so that it gets tensors."""
        step = STEPS.get(site.kind)
        if step is not None:
            found = step(site)
            if found is not None:
                return found
        pixels = next((each for each in site.inputs if isinstance(each, Pixels)), None)
        if pixels is not None and pixels.size is not None:
            return None
        if pixels is None:
            return Sizes() if all(isinstance(each, Sizes | View) for each in site.inputs) else _unclear(site)
        if site.kind not in ON_THE_WAY:
            return None
        # Images of any size: whatever it is, they are not made alike yet.
        return replace(pixels, unclear=pixels.unclear or site.kind)

    def tensor(self, pixels: Pixels, site: NodeSite) -> View:
        """The model's input in the place of images that were made alike."""
        if self.taken is None:
            if pixels.size is None or pixels.axes != 4:
                site.refuse("is given images of any size, one by one; an artifact takes a batch of images of one size")
            dtype = np.uint8 if pixels.whole and pixels.factor == (1.0,) and pixels.offset == (0.0,) else np.float32
            type = TensorType(np.dtype(dtype), (Batch(), *pixels.size, pixels.channels))
            name = site.context.builder.input(site.context.builder.free_name("pixels"), type)
            self.taken, self.view = pixels, View(name, (0, 1, 2, 3))
        if pixels != self.taken:
            site.refuse("reads the images at another place than the layers before it; what lies between is not a chain of steps")
        return self.view

    @property
    def inlet(self) -> Inlet | None:
        pixels = self.taken
        if pixels is None or pixels.unclear is not None or pixels.resize is None:
            return None
        try:
            return _inlet(pixels)
        except InletError:
            return None

    @property
    def notes(self) -> tuple[str, ...]:
        pixels = self.taken
        if pixels is None:
            return ()
        if self.inlet is None:
            what = f"a step ({pixels.unclear})" if pixels.unclear else "its preprocessing"
            return (f"the model takes encoded images; the part behind the decoder was converted, and {what} between them cannot be stated as "
                    "an inlet: recover it with zygal inlet recover, from a witness with tensors",)  # fmt: skip
        return ("the model takes encoded images; the part behind the decoder was converted, and what lies between is its inlet",)


def _inlet(pixels: Pixels) -> Inlet:
    jpeg = "fast" if "Jpeg" in pixels.decoder or pixels.decoder in ("DecodeImage", "DecodeAndCropJpeg") else "accurate"
    colour = "grey" if pixels.channels == 1 else "bgr" if pixels.reversed else "rgb"
    extra = {"grey_rounding": "stretched", "jpeg_grey": "luma"} if colour == "grey" else {}
    decode = Decode(colour=colour, jpeg=jpeg, **extra)
    dtype = "uint8" if pixels.whole and pixels.factor == (1.0,) and pixels.offset == (0.0,) else "float32"
    return Inlet(decode, (pixels.resize,), _values(pixels), Tensor("NHWC", dtype))


def _values(pixels: Pixels) -> Values:
    """The line of each channel as a range, and mean and deviation where the channels differ."""
    factor, offset = (np.broadcast_to(np.array(each), pixels.channels) for each in (pixels.factor, pixels.offset))
    if len(set(factor)) == len(set(offset)) == 1:
        return Values(range=(_short(offset[0]), _short(factor[0] * LEVELS + offset[0])))
    # (x * scale - mean) / std with the scale that makes the deviations those of numbers up to 1 or up to 255.
    scale = 1.0 if np.max(1 / np.abs(factor)) > 2 and np.max(np.abs(offset / factor)) > 2 else 1 / LEVELS
    std, mean = scale / factor, -offset * scale / factor
    return Values(range=(0.0, _short(scale * LEVELS)), mean=tuple(map(_short, mean)), std=None if np.allclose(std, 1) else tuple(map(_short, std)))


def _short(number: float) -> float:
    """A number that was computed in float32 in its shortest spelling."""
    return float(f"{float(number):.7g}")


STEPS: dict[str, Callable[[NodeSite], Any]] = {}
"""The operators that images on their way in may meet. Each gives what it makes, or None to be handed a tensor."""


def step(*names: str) -> Callable:
    def enter(handler: Callable[[NodeSite], Any]) -> Callable[[NodeSite], Any]:
        STEPS.update(dict.fromkeys(names, handler))
        return handler

    return enter


def _unclear(site: NodeSite) -> Any:
    given = next(each for each in site.inputs if isinstance(each, FOLLOWED))
    return site.refuse(f"works on {'encoded images' if isinstance(given, Encoded) else 'a list of images'} in a way that is not supported")


@step("Identity", "StopGradient", "EnsureShape", "PreventGradient")
def passed_on(site: NodeSite) -> Any:
    return site.inputs[0]


@step("DecodeJpeg", "DecodePng", "DecodeImage", "DecodeBmp", "DecodeAndCropJpeg")
def decoded(site: NodeSite) -> Any:
    if not isinstance(site.inputs[0], Encoded):
        return None
    channels = int(site.attribute("channels", 0) or 0)
    plain = site.attribute("dtype", 4) in (None, 4) and int(site.attribute("ratio", 1) or 1) == 1 and site.kind != "DecodeAndCropJpeg"
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
        return None if made is None else replace(pixels, factor=tuple(map(float, made[0] + 0 * made[1])), offset=tuple(map(float, made[1] + 0 * made[0])), whole=False)


_arithmetic(("Mul",), lambda f, o, n, turned: (f * n, o * n))
_arithmetic(("Add", "AddV2", "BiasAdd"), lambda f, o, n, turned: (f, o + n))
_arithmetic(("Sub",), lambda f, o, n, turned: (-f, n - o) if turned else (f, o - n))
_arithmetic(("RealDiv", "Div"), lambda f, o, n, turned: None if turned or not np.all(n) else (f / n, o / n))

_FILTERS = {"ResizeBilinear": "bilinear", "ResizeNearestNeighbor": "nearest", "ResizeBicubic": "bicubic", "ResizeArea": "area"}


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
    resize = Resize(**shape, antialias=False, rounding="none") if site.kind != "ResizeArea" else Resize(filter="area", size=(height, width), rounding="none")
    # The framework's cubic weights are rounded to steps of its own, which no inlet states.
    return replace(pixels, size=(height, width), resize=resize, whole=False, unclear=pixels.unclear or (None if exact else site.kind))


@step("ScaleAndTranslate")
def resized_by_filter(site: NodeSite) -> Any:
    pixels = site.inputs[0]
    wanted = site.known(1) if isinstance(pixels, Pixels) and isinstance(site.inputs[1], View) else None
    if wanted is None or pixels.axes != 4:
        return None if not isinstance(pixels, Pixels) else replace(pixels, unclear=pixels.unclear or site.kind)
    size = tuple(int(each) for each in wanted.reshape(-1))
    names = {"triangle": "bilinear", "keyscubic": "bicubic", "lanczos3": "lanczos", "lanczos5": "lanczos5", "mitchellcubic": "mitchell"}
    name = names.get(site.attribute("kernel_type", "lanczos3"))
    resize = Resize(filter=name or "bilinear", size=size, antialias=bool(site.attribute("antialias", True)), rounding="none")
    return replace(pixels, size=size, resize=resize, whole=False, unclear=pixels.unclear or (None if name else site.kind))


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


def batched(value: Any, site: NodeSite) -> Any:
    if isinstance(value, Pixels):
        return replace(value, axes=value.axes + 1)
    return site.refuse("makes of each image something that is no image") if value is None else value


@operator("TensorListReserve", "EmptyTensorList", "TensorArrayV3")
def empty_list(call: NodeSite) -> EachImage:
    for name in ("element_dtype", "shape_type", "element_shape", "dynamic_size", "clear_after_read", "identical_element_shapes",
                 "tensor_array_name"):  # fmt: skip
        call.attribute(name)
    return EachImage(None)

