"""What an inlet can say: the stages decode, frame, values and tensor, each a plain record.

Two inlets are the same when their records are equal, so they can be compared field by field and
searched over. The fifth stage, the batch, stacks such tensors and has nothing to choose.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field, fields

COLOURS = ("rgb", "bgr", "grey")
GREY_WEIGHTS = (0.299, 0.587, 0.114)
"""Red, green and blue in the luma of ITU-R BT.601."""
GREY_ROUNDINGS = ("nearest", "nearest-15bit", "down", "none")
EXIF = ("apply", "ignore")
SIXTEEN_BIT = ("refuse", "high-byte", "clip", "scale")
POLARITIES = ("as-is", "inverted")
MIRRORS = ("none", "horizontal", "vertical", "both")
FILTERS = (
    "nearest", "box", "bilinear", "hamming", "bicubic", "lanczos", "lanczos4", "lanczos5", "area", "adaptive",
)  # fmt: skip
KERNELS = ("bilinear", "hamming", "bicubic", "lanczos", "lanczos4", "lanczos5")
"""Filters that are a continuous function of the distance, for which antialias and edges can be chosen."""
FIXED_POINT = ("bilinear", "area")
"""Filters for which 11-bit fixed point is known."""
GRIDS = ("half-pixel", "corners", "asymmetric")
EDGES = ("inside", "repeat")
CUBICS = (-0.5, -0.75)
ROUNDINGS = ("passes", "passes-16bit", "end", "down", "fixed", "none")
ORDERS = ("by-shrinkage", "columns")
SCALES = ("exact", "float32", "float64")
LONG_SIDES = ("down", "nearest", "up")
CENTRINGS = ("down", "nearest", "up", "start", "end")
FRACTION_ROUNDINGS = ("margin", "size")
PER_IMAGE = ("none", "standardise", "standardise-channels", "stretch")
LAYOUTS = ("NCHW", "NHWC")
DTYPES = ("float32", "uint8")


@dataclass(frozen=True)
class Decode:
    """From the file to pixels of 0 to 255.

    colour: the channels and their order. grey_weights: what grey takes of red, green and blue; grey_rounding: "nearest"
    (weights as multiples of 2**-16, Pillow's), "nearest-15bit" (multiples of 2**-15), "down" (truncated) or "none" (not
    rounded to 8 bits). grey_channels: 3 repeats grey. exif: whether the orientation that the camera noted is applied.
    (TIFF files are upright either way: Pillow turns them while it decodes them, for training code as for us.)
    transparency: "drop" takes the colours and forgets the transparency; "#rrggbb" lays the picture over that colour.
    sixteen_bit: how 16-bit grey becomes 8 bits: the high byte, clipped at 255, or scaled by 255/65535 and rounded.
    polarity: "inverted" is 255 - x. mirror: done last, on the upright picture.
    """

    colour: str = "rgb"
    exif: str = "ignore"
    transparency: str = "drop"
    grey_weights: tuple[float, float, float] = GREY_WEIGHTS
    grey_rounding: str = "nearest"
    grey_channels: int = 1
    sixteen_bit: str = "refuse"
    polarity: str = "as-is"
    mirror: str = "none"


@dataclass(frozen=True)
class Resize:
    """Resampling, rows and columns each by a matrix; see `resampling`.

    One of: `short_side` in pixels, the long side in proportion; `size` (height, width), whatever that does to the
    proportions; `within` (height, width): as large as fits, in proportion. long_side rounds the side that follows: "down",
    to the "nearest" pixel (half to even) or "up". cubic: the coefficient of the bicubic kernel. grid: where output pixels lie
    on the input. antialias: whether the kernel widens when the picture shrinks. edges: beyond the picture there is nothing
    and the weights "inside" are made to sum to 1, or its border is "repeat"ed. rounding to 8 bits: after each of the two
    passes with weights of 22 bits ("passes", Pillow's) or 16 bits ("passes-16bit"), once at the "end" to the nearest or
    "down", in 11-bit "fixed" point, or "none". scale: with what rounding "nearest" finds the pixel that it copies. order, where each pass is rounded to 8 bits: "columns" first
    (Pillow before release 13), or "by-shrinkage" (from 13 on) rows first where the height loses more than twice as many
    pixels as the width.
    """

    short_side: int | None = None
    size: tuple[int, int] | None = None
    filter: str = "bilinear"
    long_side: str = "down"
    within: tuple[int, int] | None = None
    grid: str = "half-pixel"
    antialias: bool = True
    edges: str = "inside"
    cubic: float = -0.5
    rounding: str = "passes"
    scale: str = "exact"
    order: str = "by-shrinkage"


@dataclass(frozen=True)
class Crop:
    """One of: the (height, width) of `size`; a `fraction` of both sides; the largest part of an `aspect` (height, width).

    centring: half the margin rounded "down", to the "nearest" (even) pixel or "up", or the part at the "start" (top left) or
    "end". fraction_rounding: of a fraction, the "margin" is rounded down and taken off at both ends, or the "size" is rounded
    down and centred.
    """

    size: tuple[int, int] | None = None
    centring: str = "down"
    fraction: float | None = None
    fraction_rounding: str = "size"
    aspect: tuple[int, int] | None = None


@dataclass(frozen=True)
class Pad:
    """Fills up to `size`, or to the smallest (height, width) in the proportions of `aspect`, with a colour "#rrggbb".

    centring is that of the crop, for the place of the picture.
    """

    size: tuple[int, int] | None = None
    aspect: tuple[int, int] | None = None
    colour: str = "#000000"
    centring: str = "down"


Step = Resize | Crop | Pad


def idle_fields(step: Step) -> dict[str, str]:
    """The fields of a step that have no effect beside its other fields, each with the reason as the end of a sentence."""
    if isinstance(step, Resize):
        return _idle_in_resize(step)
    if isinstance(step, Crop):
        if step.fraction is None:
            return {"fraction_rounding": "without a fraction"}
        if step.fraction_rounding == "margin":
            return {"centring": "if the margin is rounded: both margins are the same"}
    return {}


def _idle_in_resize(step: Resize) -> dict[str, str]:
    with_filter, kernel = f"with the filter {step.filter}", step.filter in KERNELS
    rules = (
        ("antialias", not kernel, with_filter),
        ("edges", not kernel, with_filter),
        ("cubic", step.filter != "bicubic", with_filter),
        ("grid", step.filter in ("area", "adaptive"), with_filter),
        ("rounding", step.filter == "nearest", with_filter),
        ("scale", step.filter != "nearest", with_filter),
        ("scale", step.grid == "corners", 'with grid = "corners"'),
        ("order", step.filter == "nearest", with_filter),
        ("order", step.rounding != "passes", 'unless rounding = "passes"'),
        ("long_side", step.size is not None, "beside size, which gives both sides"),
    )
    return {name: reason for name, idle, reason in reversed(rules) if idle}


def fixed_point_fits(step: Resize) -> bool:
    """Whether the resize can be computed in 11-bit fixed point."""
    return step.filter in FIXED_POINT and not (step.filter in KERNELS and step.antialias)


@dataclass(frozen=True)
class Values:
    """From pixels to numbers: 0 and 255 become `range`, then mean is taken off and std divides.

    mean and std have one number per channel, in the channels' order, or are None. per_image, instead of both: "standardise"
    takes off the image's own mean and divides by its own standard deviation, but by no less than 1/sqrt(count of numbers);
    "standardise-channels" does so channel by channel; "stretch" makes its smallest number 0 and its largest 1.
    """

    range: tuple[float, float] = (0.0, 1.0)
    mean: tuple[float, ...] | None = None
    std: tuple[float, ...] | None = None
    per_image: str = "none"


@dataclass(frozen=True)
class Tensor:
    """The order of the axes and the dtype that the model is fed."""

    layout: str = "NCHW"
    dtype: str = "float32"


@dataclass(frozen=True)
class Inlet:
    decode: Decode = field(default_factory=Decode)
    frame: tuple[Step, ...] = ()
    values: Values = field(default_factory=Values)
    tensor: Tensor = field(default_factory=Tensor)

    @property
    def channels(self) -> int:
        return self.decode.grey_channels if self.decode.colour == "grey" else 3

    def fixed_size(self) -> tuple[int, int] | None:
        """The (height, width) that every image ends with, or None if it depends on the image."""
        size = None
        for step in self.frame:
            if step.size is not None:
                size = step.size
            elif size is not None:
                size = size_after(size, step)
        return size

    def tensor_shape(self) -> tuple[int, int, int] | None:
        """The shape of one image's tensor, or None if it depends on the image."""
        size = self.fixed_size()
        if size is None:
            return None
        return (self.channels, *size) if self.tensor.layout == "NCHW" else (*size, self.channels)


def departures(one: Inlet, other: Inlet) -> Iterator[tuple[str, object, object]]:
    """The fields in which two inlets differ: (name, value in one, value in other); the frames as wholes if their steps do."""
    for stage in ("decode", "frame", "values", "tensor"):
        first_stage, second_stage = getattr(one, stage), getattr(other, stage)
        if stage != "frame":
            yield from _record_departures(stage, first_stage, second_stage)
        elif [type(step) for step in first_stage] == [type(step) for step in second_stage]:
            for index, (step, their_step) in enumerate(zip(first_stage, second_stage), 1):
                yield from _record_departures(f"frame step {index}", step, their_step)
        else:
            yield "frame", first_stage, second_stage


def _record_departures(name: str, one: object, other: object) -> Iterator[tuple[str, object, object]]:
    for each in fields(one):
        first_stage, second_stage = getattr(one, each.name), getattr(other, each.name)
        if first_stage != second_stage:
            yield f"{name}.{each.name}", first_stage, second_stage


def size_after(size: tuple[int, int], step: Step) -> tuple[int, int]:
    """The (height, width) that a picture of `size` (height, width) has after a step."""
    if step.size is not None:
        return step.size
    height, width = size
    if isinstance(step, Pad):
        return max(height, width * step.aspect[0] // step.aspect[1]), max(
            width, height * step.aspect[1] // step.aspect[0]
        )
    if isinstance(step, Crop):
        return _cropped_size(size, step)
    if step.within is not None:
        tall, wide = step.within
        if tall * width <= wide * height:
            return tall, min(wide, max(1, _in_proportion(tall * width, height, step.long_side)))
        return min(tall, max(1, _in_proportion(wide * height, width, step.long_side))), wide
    scaled = _in_proportion(step.short_side * max(size), min(size), step.long_side)
    return (step.short_side, scaled) if height <= width else (scaled, step.short_side)


def _cropped_size(size: tuple[int, int], step: Crop) -> tuple[int, int]:
    height, width = size
    if step.aspect is not None:
        rows, columns = step.aspect
        return max(1, min(height, width * rows // columns)), max(1, min(width, height * columns // rows))
    if step.fraction_rounding == "size":
        return max(1, int(height * step.fraction)), max(1, int(width * step.fraction))
    return tuple(max(1, side - 2 * int((side - side * step.fraction) / 2)) for side in size)


def _in_proportion(product: int, divisor: int, rounding: str) -> int:
    if rounding == "down":
        return product // divisor
    return -(-product // divisor) if rounding == "up" else round(product / divisor)


def margin(spare: int, centring: str) -> int:
    """The pixels before a part, of `spare` pixels around it; halves "nearest" go to the even number, as Python's round()."""
    if centring in ("start", "end"):
        return 0 if centring == "start" else spare
    return {"down": spare // 2, "up": -(-spare // 2)}.get(centring, round(spare / 2))
