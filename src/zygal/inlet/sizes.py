"""What the steps of a frame do to a picture's size: sizes, margins and the part of a picture that a resize takes, in
numbers."""

from __future__ import annotations

import math
import struct
from dataclasses import dataclass

from zygal.inlet.specification import Blur, Crop, Inlet, Pad, Resize, Step

Size = tuple[int, int]


@dataclass(frozen=True)
class Axis:
    """One axis of a resize: `outputs` pixels from the `inputs` of a picture, `scale` of them for each, beginning at
    `start`."""

    inputs: int
    outputs: int
    scale: float
    start: float = 0.0

    @classmethod
    def between(cls, inputs: int, outputs: int) -> Axis:
        """The axis of a resize from so many pixels to so many."""
        return cls(inputs, outputs, inputs / outputs)


@dataclass(frozen=True)
class Placed:
    """A step made definite for one picture: sizes (height, width), and the axes of a resize or else where the result
    begins on the picture (negative: before it)."""

    step: Step
    before: Size
    after: Size
    axes: tuple[Axis, Axis] | None = None
    start: tuple[int, int] = (0, 0)

    @property
    def leaves_as_is(self) -> bool:
        """Whether a resize is one that leaves a picture as it is which would grow."""
        return self.after == self.before and not self.step.enlarge


def place(size: Size, frame: tuple[Step, ...], unreduced: Size | None = None) -> list[Placed]:
    """Every step for a picture of `size`. unreduced: the size before the decoder reduced it. Raises ValueError, with
    what is wrong as a sentence without its subject, if a step does not fit."""
    placed, exact = [], None
    for step in frame:
        if isinstance(step, Resize):
            placed.append(_placed_resize(size, step, unreduced or size))
            exact = _exact_size(size, step)
        else:
            after = size_after(size, step)
            start = _start(size, after, step, exact)
            _check_fit(size, after, step)
            placed.append(Placed(step, size, after, start=start))
            exact = None
        size, unreduced = placed[-1].after, None
    return placed


def _check_fit(before: Size, after: Size, step: Step) -> None:
    text = f"is {before[0]} x {before[1]} (height x width) before"
    smaller, larger = (
        any(compare(b, a) for b, a in zip(before, after)) for compare in (lambda b, a: b < a, lambda b, a: b > a)
    )
    if isinstance(step, Crop) and smaller and step.missing is None:
        raise ValueError(f"{text} the crop to {after[0]} x {after[1]}; resize or pad it first")
    if isinstance(step, Crop) and min(after) < 1:
        raise ValueError(f"{text} the margins are cropped; resize or pad it first")
    if isinstance(step, Pad) and larger:
        raise ValueError(f"{text} it is padded to {after[0]} x {after[1]}; resize or crop it first")
    widest = max(after[0] - before[0], after[1] - before[1])
    if isinstance(step, Pad) and step.border in ("reflect", "symmetric") and widest >= 2 * min(before):
        raise ValueError(
            f"{text} it is padded to {after[0]} x {after[1]}, too small to be mirrored so far; resize it first"
        )


def _placed_resize(size: Size, step: Resize, unreduced: Size) -> Placed:
    seen = unreduced if step.box == "unreduced" else size
    after = size_after(seen, step)
    if after == seen and not step.enlarge and min(_scales(seen, step)) > 1:
        return Placed(step, size, size, tuple(Axis.between(side, side) for side in size))
    axes = []
    for axis, (side, outputs) in enumerate(zip(size, after)):
        start, length = 0.0, side
        if step.box.startswith("aspect"):
            start, length = _box(size, step)[axis]
        elif step.box == "unreduced":
            length = side if seen == size else seen[axis] / round(seen[axis] / side)
        scale = length / outputs
        if step.grid_scale != "sizes":
            by = _scales(seen, step)[axis]
            scale = 1 / (by if step.grid_scale == "factor" else _float32(by))
        axes.append(Axis(side, outputs, scale, start))
    return Placed(step, size, after, tuple(axes))


def _float32(number: float) -> float:
    return struct.unpack("f", struct.pack("f", number))[0]


def _box(size: Size, step: Resize) -> list[tuple[float, float]]:
    """Start and length, for each axis, of the largest part with the proportions of the step's size."""
    (height, width), (rows, columns) = size, step.size
    if step.box == "aspect-pixels":
        sides = (min(height, width * rows // columns), min(width, height * columns // rows))
        return [((side - part) // 2, part) for side, part in zip(size, sides)]
    ratio = columns / rows
    if width / height == ratio:
        return [(0.0, height), (0.0, width)]
    sides = (height, ratio * height) if width / height >= ratio else (width / ratio, width)
    return [((side - part) * 0.5, part) for side, part in zip(size, sides)]


def _scales(size: Size, step: Resize) -> tuple[float, float]:
    """By how much a resize enlarges each axis, before its sizes are rounded."""
    height, width = size
    if step.size is not None:
        return step.size[0] / height, step.size[1] / width
    if step.factor is not None:
        return (step.factor,) * 2
    if step.short_side is not None:
        return (step.short_side / min(size),) * 2
    by = (step.within or step.cover)[0] / height, (step.within or step.cover)[1] / width
    return (min(by) if step.within else max(by),) * 2


def _exact_size(size: Size, step: Resize) -> tuple[float, float]:
    return tuple(side * by for side, by in zip(size, _scales(size, step)))


def size_after(size: Size, step: Step) -> Size:
    """The (height, width) that a picture of `size` (height, width) has after a step."""
    if isinstance(step, Blur):
        return size
    if isinstance(step, Resize):
        return _resized_size(size, step)
    if step.margins is not None:
        top, bottom, left, right = step.margins
        by = (top + bottom, left + right)
        return tuple(side + more if isinstance(step, Pad) else side - more for side, more in zip(size, by))
    wanted = step.size
    if wanted is None:
        height, width = size
        if isinstance(step, Crop):
            wanted = _cropped_size(size, step)
        else:
            rows, columns = step.aspect
            wanted = max(height, width * rows // columns), max(width, height * columns // rows)
    if step.centring == "equal":
        # The same margin on both sides: an odd pixel stays in a crop, and is missing from a pad.
        return tuple(
            side + 2 * ((side_after - side) // 2) if side_after > side else side - 2 * ((side - side_after) // 2)
            for side, side_after in zip(size, wanted)
        )
    return wanted


def _resized_size(size: Size, step: Resize) -> Size:
    if step.size is not None:
        return step.size
    height, width = size
    if step.factor is not None:
        return tuple(max(1, _rounded(side * step.factor, step.long_side)) for side in size)
    if not step.enlarge and min(_scales(size, step)) > 1:
        return size
    if step.short_side is not None:
        scaled = _in_proportion(step.short_side * max(size), min(size), step.long_side)
        return (step.short_side, scaled) if height <= width else (scaled, step.short_side)
    tall, wide = step.within or step.cover
    by_height = tall * width <= wide * height
    if by_height == bool(step.within):
        return tall, _following(tall * width, height, step, wide, lambda n: abs(width / height - n / tall))
    return _following(wide * height, width, step, tall, lambda n: abs(width / height - wide / n) if n else 0.0), wide


def _following(product: int, divisor: int, step: Resize, limit: int, aspect_error) -> int:
    """The side that follows the one that is given, at least 1 and on the right side of its own limit."""
    if step.long_side == "closest-aspect":
        return max(1, min(math.floor(product / divisor), math.ceil(product / divisor), key=aspect_error))
    side = max(1, _in_proportion(product, divisor, step.long_side))
    return min(limit, side) if step.within else max(limit, side)


def _cropped_size(size: Size, step: Crop) -> Size:
    height, width = size
    if step.aspect is not None and step.fraction is not None:
        rows, columns = step.aspect
        by = min(height / rows, width / columns) * step.fraction
        return tuple(max(1, int(part * by + 1e-9)) for part in step.aspect)
    if step.aspect is not None:
        rows, columns = step.aspect
        return max(1, min(height, width * rows // columns)), max(1, min(width, height * columns // rows))
    if step.fraction_rounding == "size":
        return max(1, int(height * step.fraction)), max(1, int(width * step.fraction))
    return tuple(max(1, side - 2 * int((side - side * step.fraction) / 2)) for side in size)


def _rounded(number: float, rounding: str) -> int:
    return {"down": math.floor, "up": math.ceil}.get(rounding, round)(number)


def _in_proportion(product: int, divisor: int, rounding: str) -> int:
    if rounding == "down":
        return product // divisor
    return -(-product // divisor) if rounding == "up" else round(product / divisor)


def _start(before: Size, after: Size, step: Step, exact: tuple[float, float] | None) -> tuple[int, int]:
    """Where the result of a crop or pad begins on the picture."""
    if isinstance(step, Blur):
        return 0, 0
    if step.margins is not None:
        top, _, left, _ = step.margins
        return (top, left) if isinstance(step, Crop) else (-top, -left)
    starts = []
    for axis, (was, becomes) in enumerate(zip(before, after)):
        if becomes <= was:
            starts.append(margin(was - becomes, step.centring))
        elif step.centring == "unrounded":
            starts.append(-math.floor((becomes - (exact or before)[axis]) / 2))
        else:
            # Around a crop of a smaller picture the odd pixel is behind, in every library.
            centring = step.centring if isinstance(step, Pad) or step.centring in ("start", "end") else "down"
            starts.append(-margin(becomes - was, centring))
    return tuple(starts)


def margin(spare: int, centring: str) -> int:
    """The pixels before a part, of `spare` pixels around it; halves "nearest" go to the even number, as Python's
    round()."""
    if centring in ("start", "end"):
        return 0 if centring == "start" else spare
    return {"nearest": round(spare / 2), "up": -(-spare // 2)}.get(centring, spare // 2)


def fixed_size(inlet: Inlet) -> Size | None:
    """The (height, width) that every image ends with, or None if it depends on the image."""
    size = None
    for step in inlet.frame:
        given = None if isinstance(step, Blur) else step.size
        if given is not None and (isinstance(step, Resize) or step.centring != "equal"):
            size = given
        elif size is not None:
            size = size_after(size, step)
    return size


def tensor_shape(inlet: Inlet) -> tuple[int, int, int] | None:
    """The shape of one image's tensor, or None if it depends on the image."""
    size = fixed_size(inlet)
    if size is None:
        return None
    return (inlet.channels, *size) if inlet.tensor.layout == "NCHW" else (*size, inlet.channels)
