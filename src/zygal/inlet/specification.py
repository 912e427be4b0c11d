"""What an inlet can say: the stages decode, frame, values and tensor, each a plain record.

Two inlets are the same when their records are equal, so they can be compared field by field. The
fifth stage, the batch, stacks such tensors and has nothing to choose.
"""

from __future__ import annotations

from dataclasses import dataclass, field

COLOURS = ("rgb", "bgr", "grey")
EXIF = ("apply", "ignore")
FILTERS = ("nearest", "box", "bilinear", "hamming", "bicubic", "lanczos")
LONG_SIDES = ("down", "nearest")
CENTRINGS = ("down", "nearest")
LAYOUTS = ("NCHW", "NHWC")
DTYPES = ("float32", "uint8")


@dataclass(frozen=True)
class Decode:
    """From the file to 8-bit pixels.

    colour: the channels and their order; grey is 0.299 R + 0.587 G + 0.114 B (ITU-R BT.601) rounded to 8 bits.
    exif: whether the orientation that the camera noted is applied. (TIFF files are upright either way: Pillow turns
    them while it decodes them, for training code as for us.)
    transparency: "drop" takes the colours and forgets the transparency; "#rrggbb" lays the picture over that colour.
    """

    colour: str = "rgb"
    exif: str = "ignore"
    transparency: str = "drop"


@dataclass(frozen=True)
class Resize:
    """Resampling by Pillow's filters, rounded to 8 bits.

    Either `short_side` in pixels, the long side in proportion and rounded as `long_side` says ("down"
    or "nearest"), or `size` as (height, width), whatever that does to the proportions.
    """

    short_side: int | None = None
    size: tuple[int, int] | None = None
    filter: str = "bilinear"
    long_side: str = "down"


@dataclass(frozen=True)
class Crop:
    """The middle (height, width). `centring` rounds the margin's half "down" or to the "nearest" (even) pixel."""

    size: tuple[int, int]
    centring: str = "down"


@dataclass(frozen=True)
class Values:
    """From 8-bit pixels to numbers: 0 and 255 become `range`, then mean is taken off and std divides.

    mean and std have one number a channel, in the channels' order, or are None.
    """

    range: tuple[float, float] = (0.0, 1.0)
    mean: tuple[float, ...] | None = None
    std: tuple[float, ...] | None = None

    @property
    def grey_level(self) -> float:
        """What one grey level is, before mean and std."""
        return (self.range[1] - self.range[0]) / 255


@dataclass(frozen=True)
class Tensor:
    """The order of the axes and the dtype that the model is fed."""

    layout: str = "NCHW"
    dtype: str = "float32"


@dataclass(frozen=True)
class Inlet:
    decode: Decode = field(default_factory=Decode)
    frame: tuple[Resize | Crop, ...] = ()
    values: Values = field(default_factory=Values)
    tensor: Tensor = field(default_factory=Tensor)

    @property
    def channels(self) -> int:
        return 1 if self.decode.colour == "grey" else 3

    def fixed_size(self) -> tuple[int, int] | None:
        """The (height, width) that every image ends with, or None if it depends on the image."""
        size = None
        for step in self.frame:
            if isinstance(step, Crop) or step.size is not None:
                size = step.size
            elif size is not None:
                size = scaled_size(size, step)
        return size

    def tensor_shape(self) -> tuple[int, int, int] | None:
        """The shape of one image's tensor, or None if it depends on the image."""
        size = self.fixed_size()
        if size is None:
            return None
        return (self.channels, *size) if self.tensor.layout == "NCHW" else (*size, self.channels)


def scaled_size(size: tuple[int, int], step: Resize) -> tuple[int, int]:
    """The (height, width) that a picture of `size` (height, width) has after a resize."""
    if step.size is not None:
        return step.size
    height, width = size
    short, long = min(height, width), max(height, width)
    if step.long_side == "down":
        scaled = step.short_side * long // short
    else:
        scaled = round(step.short_side * long / short)
    return (step.short_side, scaled) if height <= width else (scaled, step.short_side)
