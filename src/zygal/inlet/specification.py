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
GREY_ROUNDINGS = ("nearest", "nearest-15bit", "down-15bit", "down", "stretched", "none")
JPEG = ("accurate", "fast")
JPEG_GREY = ("colour", "luma")
CONVERSIONS = ("first", "grey-after-resize", "after-resize")
EXIF = ("apply", "ignore")
SIXTEEN_BIT = ("refuse", "high-byte", "clip", "scale")
POLARITIES = ("as-is", "inverted", "dark-ground")
MIRRORS = ("none", "horizontal", "vertical", "both")
FILTERS = (
    "nearest",
    "box",
    "bilinear",
    "hamming",
    "bicubic",
    "mitchell",
    "gaussian",
    "spline",
    "lanczos",
    "lanczos4",
    "lanczos5",
    "area",
    "area-linear",
    "adaptive",
)
KERNELS = ("bilinear", "hamming", "bicubic", "mitchell", "gaussian", "lanczos", "lanczos4", "lanczos5")
"""Filters that are a continuous function of the distance, for which antialias and edges can be chosen."""
FIXED_POINT = ("bilinear", "bicubic", "lanczos4", "area", "area-linear")
"""Filters for which 11-bit fixed point is known."""
GRIDS = ("half-pixel", "corners", "asymmetric")
GRID_SCALES = ("sizes", "factor", "factor-float32")
BOXES = ("whole", "aspect", "aspect-pixels", "unreduced")
PREFILTERS = ("none", "gaussian")
EDGES = ("inside", "repeat", "reflect", "zero")
CUBICS = (-0.5, -0.75)
ROUNDINGS = ("passes", "passes-16bit", "end", "down", "fixed", "fixed-8bit", "none")
ORDERS = ("by-shrinkage", "columns")
SCALES = ("exact", "float32", "float64")
LONG_SIDES = ("down", "nearest", "up", "closest-aspect")
CENTRINGS = ("down", "nearest", "up", "start", "end", "equal", "unrounded")
CROP_CENTRINGS = CENTRINGS[:-1]
FRACTION_ROUNDINGS = ("margin", "size")
BORDERS = ("colour", "repeat", "reflect", "symmetric")
BLURS = ("gaussian", "binomial", "three-boxes")
BLUR_ROUNDINGS = ("end", "fixed-8bit", "none")
PER_IMAGE = ("none", "standardise", "standardise-channels", "stretch", "stretch-channels", "by-maximum")
LAYOUTS = ("NCHW", "NHWC")
DTYPES = ("float32", "uint8")


@dataclass(frozen=True)
class Decode:
    """From the file to pixels of 0 to 255.

    colour: the channels and their order. grey_weights: what grey takes of red, green and blue; grey_rounding: "nearest"
    (weights as multiples of 2**-16, Pillow's), "nearest-15bit" (multiples of 2**-15), "down-15bit" (the same,
    truncated), "down" (truncated), "stretched" (times 255.5/255 and truncated, TensorFlow's) or "none" (not rounded to
    8 bits). grey_channels: 3 repeats grey. exif: whether the orientation that the camera noted is applied. (TIFF files
    are upright either way: Pillow turns them while it decodes them, for training code as for us.) transparency: "drop"
    takes the colours and forgets the transparency; "#rrggbb" lays the picture over that colour. sixteen_bit: how 16-bit
    grey becomes 8 bits: the high byte, clipped at 255, or scaled by 255/65535 and rounded. polarity: "inverted" is 255
    - x; "dark-ground" inverts the images whose outermost pixels have a mean above 127.5. mirror: done last, on the
    upright picture.

    jpeg: the decoder's inverse transform, "accurate" or "fast" (both integer methods of the JPEG group's library).
    jpeg_reduction: the decoder halves the picture, up to three times, as long as it keeps at least this (height,
    width). jpeg_grey: grey from the colours, or the "luma" plane that a JPEG file holds. conversion: files become
    colour or grey "first"; only grey is made "grey-after-resize", behind the last resize; or all is, "after-resize":
    palettes are then resized by their numbers, transparent pictures with premultiplied alpha.
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
    jpeg: str = "accurate"
    jpeg_reduction: tuple[int, int] | None = None
    jpeg_grey: str = "colour"
    conversion: str = "first"


@dataclass(frozen=True)
class Resize:
    """Resampling, rows and columns each by a matrix; see `resampling`.

    One of: `short_side` in pixels, the long side in proportion; `size` (height, width), whatever that does to the
    proportions; `within` (height, width): as large as fits, in proportion; `cover`: as small as covers; `factor` times
    both sides. long_side rounds the sides that follow: "down", to the "nearest" pixel (half to even), "up", or to the
    one with the "closest-aspect". enlarge: false leaves a picture that would grow as it is. box, beside size: the part
    of the picture that is resized: the "whole", the largest part with the proportions of size ("aspect", parts of
    pixels included, or "aspect-pixels", whole ones), or what the file's own size covers of a picture that the decoder
    reduced ("unreduced"); the filter sees pixels beyond it. cubic: the coefficient of the bicubic kernel. grid: where
    output pixels lie on the input. grid_scale: input pixels for each output pixel by the ratio of the "sizes" or the
    inverse of the "factor" that was asked for ("factor-float32": rounded to float32 before). prefilter: a "gaussian"
    before, of (scale - 1) / 2 pixels deviation, where the picture shrinks. antialias: whether the kernel widens when
    the picture shrinks. edges: beyond the picture there is nothing and the weights "inside" are made to sum to 1, or
    its border is "repeat"ed or "reflect"ed, or all is "zero" there. rounding to 8 bits: after each of the two passes
    with weights of 22 bits ("passes", Pillow's) or 16 bits ("passes-16bit"), once at the "end" to the nearest or
    "down", in "fixed" point of 11 or of 8 bits, or "none". scale: in what precision places are computed, for "nearest"
    and for kernels without antialias. order, where each pass is rounded to 8 bits: "columns" first (Pillow before
    release 13), or "by-shrinkage" (from 13 on) rows first where the height loses more than twice as many pixels as the
    width. reduce_above: a picture that is more than so many times too large is first reduced by means of whole pixels.
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
    cover: tuple[int, int] | None = None
    factor: float | None = None
    box: str = "whole"
    enlarge: bool = True
    grid_scale: str = "sizes"
    prefilter: str = "none"
    reduce_above: float | None = None


RESIZE_TO = ("short_side", "size", "within", "cover", "factor")


@dataclass(frozen=True)
class Crop:
    """One of: the (height, width) of `size`; a `fraction` of both sides; the largest part of an `aspect` (height,
    width), or that `fraction` of it; all but `margins` (top, bottom, left, right) in pixels.

    centring: half the margin rounded "down", to the "nearest" (even) pixel or "up", the same on both sides ("equal":
    rounded down, an odd pixel stays), or the part at the "start" (top left) or "end". fraction_rounding: of a fraction,
    the "margin" is rounded down and taken off at both ends, or the "size" is rounded down and centred. missing: the
    colour of what lies beyond a picture that is smaller than `size`; half of it, rounded down, is put before.
    """

    size: tuple[int, int] | None = None
    centring: str = "down"
    fraction: float | None = None
    fraction_rounding: str = "size"
    aspect: tuple[int, int] | None = None
    margins: tuple[int, int, int, int] | None = None
    missing: str | None = None


@dataclass(frozen=True)
class Pad:
    """Fills up to `size`, to the smallest (height, width) in the proportions of `aspect`, or by `margins` (top, bottom,
    left, right).

    border: with a `colour` "#rrggbb", or with the picture itself: its border pixels ("repeat"), mirrored there without
    ("reflect") or with ("symmetric") the border pixel. centring is that of the crop, for the place of the picture;
    "equal" leaves an odd pixel out, "unrounded" takes the margin from the size that a resize would have without
    rounding.
    """

    size: tuple[int, int] | None = None
    aspect: tuple[int, int] | None = None
    colour: str = "#000000"
    centring: str = "down"
    margins: tuple[int, int, int, int] | None = None
    border: str = "colour"


@dataclass(frozen=True)
class Blur:
    """A Gaussian of `sigma` pixels deviation before a resize.

    kind: "gaussian", of `taps` pixels a side, mirrored at the border; "binomial", its weights the binomial coefficients
    (OpenCV's where no sigma is given, for 3 and 5 taps); or "three-boxes", Pillow's approximation.
    rounding: to 8 bits at the "end", in 8-bit fixed point ("fixed-8bit", OpenCV's), or "none".
    """

    sigma: float | None = None
    taps: int | None = None
    kind: str = "gaussian"
    rounding: str = "end"


Step = Resize | Crop | Pad | Blur


def idle_fields(step: Step) -> dict[str, str]:
    """The fields of a step that have no effect beside its other fields, each with the reason as the end of a
    sentence."""
    if isinstance(step, Resize):
        return _idle_in_resize(step)
    idle = {}
    if isinstance(step, Crop):
        if step.fraction is None:
            idle["fraction_rounding"] = "without a fraction"
        elif step.fraction_rounding == "margin":
            idle["centring"] = "if the margin is rounded: both margins are the same"
        if step.missing and step.size is None:
            idle["missing"] = "without a size"
    if isinstance(step, Pad) and step.border != "colour":
        idle["colour"] = f'with border = "{step.border}"'
    if isinstance(step, Crop | Pad) and step.margins:
        idle["centring"] = "beside margins"
    if isinstance(step, Blur) and step.kind == "binomial":
        idle["sigma"] = "with the kind binomial"
    if isinstance(step, Blur) and step.kind == "three-boxes":
        idle |= {"taps": "with the kind three-boxes", "rounding": "with the kind three-boxes"}
    return idle


def _idle_in_resize(step: Resize) -> dict[str, str]:
    with_filter, kernel = f"with the filter {step.filter}", step.filter in KERNELS
    framed = step.short_side or step.within or step.cover
    rules = (
        ("antialias", not kernel, with_filter),
        ("edges", not kernel and step.filter != "spline", with_filter),
        ("cubic", step.filter != "bicubic", with_filter),
        ("grid", step.filter in ("area", "area-linear", "adaptive"), with_filter),
        ("prefilter", step.filter in ("area", "area-linear", "adaptive", "box"), with_filter),
        ("rounding", step.filter == "nearest" and step.prefilter == "none", with_filter),
        (
            "scale",
            step.filter != "nearest" and not (kernel and not step.antialias),
            with_filter if not kernel else "with antialias",
        ),
        ("scale", step.filter == "nearest" and step.grid == "corners", 'with grid = "corners"'),
        ("scale", kernel and step.rounding.startswith("fixed"), "in fixed point"),
        ("order", step.filter == "nearest", with_filter),
        ("order", step.rounding != "passes", 'unless rounding = "passes"'),
        ("long_side", step.size is not None, "beside size, which gives both sides"),
        ("enlarge", not framed, "without short_side, within or cover"),
        ("grid_scale", step.size is not None, "beside size"),
        ("grid_scale", step.filter == "adaptive", with_filter),
        ("grid_scale", step.grid == "corners", 'with grid = "corners"'),
        ("box", step.box.startswith("aspect") and step.size is None, "without size"),
        ("reduce_above", step.filter == "nearest", with_filter),
    )
    return {name: reason for name, idle, reason in reversed(rules) if idle}


def fixed_point_fits(step: Resize) -> bool:
    """Whether the resize can be computed in fixed point as `rounding` says."""
    if step.prefilter != "none":
        return False
    if step.rounding == "fixed-8bit":
        return step.filter == "bilinear" and not step.antialias and step.grid == "half-pixel"
    if step.filter == "bicubic" and (step.cubic, step.edges) != (-0.75, "repeat"):
        return False
    if step.filter == "lanczos4" and step.edges != "repeat":
        return False
    return step.filter in FIXED_POINT and not (step.filter in KERNELS and step.antialias)


@dataclass(frozen=True)
class Values:
    """From pixels to numbers: 0 and 255 become `range`, then mean is taken off and std divides.

    mean and std have one number per channel, in the channels' order, or are None. per_image, instead of both:
    "standardise" takes off the image's own mean and divides by its own standard deviation, but by no less than
    1/sqrt(count of numbers); "stretch" makes its smallest number 0 and its largest 1; "standardise-channels" and
    "stretch-channels" do so channel by channel; "by-maximum" divides by its largest number.
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
    """The five stages. recovered_on: of an inlet that was recovered from a recording, the hash of the images that it
    was recovered on; it is no part of what the inlet does."""

    decode: Decode = field(default_factory=Decode)
    frame: tuple[Step, ...] = ()
    values: Values = field(default_factory=Values)
    tensor: Tensor = field(default_factory=Tensor)
    recovered_on: str | None = field(default=None, compare=False)

    @property
    def channels(self) -> int:
        """Channels of the tensor."""
        return self.decode.grey_channels if self.decode.colour == "grey" else 3


def departures(one: Inlet, other: Inlet) -> Iterator[tuple[str, object, object]]:
    """The fields in which two inlets differ: (name, value in one, value in other); the frames as wholes if their steps
    do."""
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
