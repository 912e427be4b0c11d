"""One axis of a resize inside a graph: a matrix with few entries a row, as blocks along its diagonal.

Neighbouring outputs read nearly the same inputs. So the outputs are taken in blocks, the inputs that a block reads are
picked once, which copies whole rows of pixels as they are stored, and each block is a product with a small matrix
[outputs, inputs].
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from zygal.inlet.front.writer import DOUBLE, FLOAT, INT64, Picture, Writer
from zygal.inlet.resampling import GAUSSIAN, HAMMING, RADIUS
from zygal.inlet.specification import Resize

BLOCK = 16
"""Outputs that share what they read."""
SPARE = 2.0
"""Inputs read to both sides beyond the filter's reach: the kernel itself says which of them count."""


@dataclass(frozen=True)
class Side:
    """One axis of a resize as values of the graph: see `sizes.Axis`."""

    inputs: str
    outputs: str
    scale: str
    start: str | None


@dataclass(frozen=True)
class Band:
    """places: int64 [blocks, span], the inputs that are read. weights: float32 [blocks, BLOCK, span]. outputs: how many
    there are; None where the blocks are full."""

    places: str
    weights: str
    outputs: str | None


def band_of(writer: Writer, side: Side, step: Resize, part: tuple[str, str] | None = None) -> Band:
    """The matrix of one axis by the convention of `step`; part: start and length of the outputs that are wanted."""
    one = writer.exact(1.0)
    by_part = step.filter in ("area", "adaptive")
    index = _indices(writer, side, part)
    grid = "half-pixel" if by_part else step.grid
    centres = _centres(writer, side, grid, index)
    widened = writer.op("Max", side.scale, one) if step.antialias or by_part or step.filter == "box" else one
    reach = writer.op(
        "Add", writer.op("Mul", widened, writer.exact(float(RADIUS.get(step.filter, 1)))), writer.exact(SPARE)
    )
    taps = _taps(writer, side, centres, reach, inside=by_part or step.filter == "box" or step.edges != "repeat")
    if by_part:
        weights = _covered(writer, side, index, taps, step)
    elif step.filter == "box":
        weights = _box(writer, taps, centres, index, side, widened, step)
    else:
        weights = _kernel(writer, writer.op("Div", writer.op("Abs", writer.op("Sub", taps, centres)), widened), step)
    sums = writer.op("ReduceSum", weights, writer.whole([2]), keepdims=1)
    weights = writer.to(_in_bits(writer, writer.op("Div", weights, sums), step), FLOAT)
    last = writer.op("Sub", side.inputs, writer.whole(1))
    # Beyond the picture its border pixels are seen, where the taps go there at all.
    places = writer.op("Max", writer.whole(0), writer.op("Min", writer.to(taps, INT64), last))
    # A part that is larger than the whole is not made up.
    outputs = writer.op("Min", part[1], side.outputs) if part else side.outputs
    exact = part is None and step.size is not None and not any(length % BLOCK for length in step.size)
    return Band(writer.op("Squeeze", places, writer.whole([1])), weights, None if exact else outputs)


def along(writer: Writer, picture: Picture, letter: str, band: Band) -> Picture:
    """The picture with its axis H or W resized, in float32: inputs picked as they are stored, then one product for each
    block.

    That axis comes before the others. A single channel comes before it: the runtime is slow where an axis of size 1
    comes last or is passed over.
    """
    channels = writer.channels(picture)
    other = "W" if letter == "H" else "H"
    picture = writer.ordered(picture, f"C{letter}{other}" if channels == 1 else {"H": "HWC", "W": "WCH"}[letter])
    axis = picture.axis(letter)
    sides = writer.op("Shape", picture.value)
    batch, length = (
        writer.op("Slice", sides, writer.whole([place]), writer.whole([place + 1]), writer.whole([0]))
        for place in (0, picture.axis(other))
    )
    picked = writer.op("Gather", picture.value, band.places, axis=axis)
    if channels > 1:
        # Zeros keep the axes of batch, blocks and what a block reads.
        picked = writer.op("Reshape", picked, writer.whole([0, 0, 0, -1]))
    made = writer.op("MatMul", band.weights, writer.real(picked))
    sizes = {letter: writer.whole([-1]), other: length, "C": writer.whole([channels])}
    shape = writer.op("Concat", batch, *(sizes[each] for each in picture.order), axis=0)
    made = writer.op(
        "MeasuredReshape", made, shape, known=[channels if each == "C" else None for each in picture.order]
    )
    if band.outputs is not None:
        made = writer.op("Slice", made, writer.whole([0]), writer.at(band.outputs, 0), writer.whole([axis]))
    return picture.holding(made)


def _indices(writer: Writer, side: Side, part: tuple[str, str] | None) -> str:
    """The outputs' numbers in float64, [blocks, BLOCK, 1]; the last one again behind the end of the last block."""
    start, length = part or (None, side.outputs)
    blocks = writer.op("Div", writer.op("Add", length, writer.whole(BLOCK - 1)), writer.whole(BLOCK))
    index = writer.count(writer.op("Mul", blocks, writer.whole(BLOCK)))
    index = writer.op("Add", index, writer.to(start, DOUBLE)) if start else index
    index = writer.op("Min", index, writer.to(writer.op("Sub", side.outputs, writer.whole(1)), DOUBLE))
    return writer.op("Reshape", index, writer.whole([-1, BLOCK, 1]))


def _taps(writer: Writer, side: Side, centres: str, reach: str, inside: bool) -> str:
    """The inputs that each block reads, as numbers in float64, [blocks, 1, span]; inside: within the picture."""
    ends = [
        writer.op("Slice", centres, writer.whole([first]), writer.whole([first + 1]), writer.whole([1]))
        for first in (0, BLOCK - 1)
    ]
    low = writer.op("Floor", writer.op("Sub", ends[0], reach))
    high = writer.op("Ceil", writer.op("Add", ends[1], reach))
    span = writer.op("Add", writer.op("ReduceMax", writer.op("Sub", high, low), keepdims=0), writer.exact(1.0))
    if inside:
        inputs = writer.to(side.inputs, DOUBLE)
        span = writer.op("Min", span, inputs)
        low = writer.op("Max", writer.exact(0.0), writer.op("Min", low, writer.op("Sub", inputs, span)))
    return writer.op("Add", low, writer.count(writer.to(span, INT64)))


def _centres(writer: Writer, side: Side, grid: str, index: str) -> str:
    """Where outputs lie on the inputs; see `resampling`."""
    if grid == "corners":
        last = [writer.to(writer.op("Sub", each, writer.whole(1)), DOUBLE) for each in (side.inputs, side.outputs)]
        return writer.op("Mul", index, writer.op("Div", last[0], writer.op("Max", last[1], writer.exact(1.0))))
    if grid == "asymmetric":
        return started(writer, side, writer.op("Mul", index, side.scale))
    half = writer.exact(0.5)
    return started(writer, side, writer.op("Sub", writer.op("Mul", writer.op("Add", index, half), side.scale), half))


def started(writer: Writer, side: Side, places: str) -> str:
    """Places counted from where a side begins."""
    return writer.op("Add", side.start, places) if side.start else places


def _covered(writer: Writer, side: Side, index: str, taps: str, step: Resize) -> str:
    """By how much of each input an output covers."""
    one = writer.exact(1.0)
    low, high = (writer.op("Mul", writer.op("Add", index, writer.exact(k)), side.scale) for k in (0.0, 1.0))
    if step.filter == "adaptive":
        # Whole numbers that a division leaves a little off count as whole.
        low = writer.op("Floor", writer.op("Add", low, writer.exact(1e-9)))
        high = writer.op("Ceil", writer.op("Sub", high, writer.exact(1e-9)))
    covered = writer.op("Sub", writer.op("Min", writer.op("Add", taps, one), high), writer.op("Max", taps, low))
    return writer.op("Max", covered, writer.exact(0.0))


def _box(writer: Writer, taps: str, centres: str, index: str, side: Side, widened: str, step: Resize) -> str:
    """1 for the pixels whose centres lie within half a step of an output's, in the order of the sums of
    `resampling`."""
    half = writer.exact(0.5)
    middle = writer.op("Add", centres, half)
    if step.grid == "half-pixel":
        middle = started(writer, side, writer.op("Mul", writer.op("Add", index, half), side.scale))
    reach = writer.op("Mul", widened, half)
    first = writer.op(
        "Floor", writer.op("Max", writer.op("Add", writer.op("Sub", middle, reach), half), writer.exact(0.0))
    )
    end = writer.op("Floor", writer.op("Add", writer.op("Add", middle, reach), half))
    off = writer.op(
        "Mul", writer.op("Add", writer.op("Sub", taps, middle), half), writer.op("Div", writer.exact(1.0), widened)
    )
    conditions = [
        writer.op("LessOrEqual", off, half),
        writer.op("Greater", off, writer.exact(-0.5)),
        writer.op("GreaterOrEqual", taps, first),
        writer.op("Less", taps, end),
    ]
    met = conditions[0]
    for condition in conditions[1:]:
        met = writer.op("And", met, condition)
    return writer.to(met, DOUBLE)


def _in_bits(writer: Writer, weights: str, step: Resize) -> str:
    """Weights as multiples of a power of two, as `step` has them."""
    if step.rounding == "passes-16bit":
        largest = writer.op("ReduceMax", weights, keepdims=0)
        bits = writer.op(
            "Floor",
            writer.op(
                "Div",
                writer.op("Log", writer.op("Div", writer.exact(2.0**15 - 1), largest)),
                writer.exact(float(np.log(2.0))),
            ),
        )
        unit = writer.op("Pow", writer.exact(2.0), writer.op("Min", bits, writer.exact(22.0)))
    elif step.rounding == "fixed" and step.filter != "area":
        unit = writer.exact(2048.0)
    elif step.rounding == "fixed-8bit":
        unit = writer.exact(256.0)
    else:
        return weights
    return writer.op("Div", writer.op("Round", writer.op("Mul", weights, unit)), unit)


def _kernel(writer: Writer, distance: str, step: Resize) -> str:
    """A filter at distances of float64, in its own steps; see `resampling`."""
    one, none = writer.exact(1.0), writer.exact(0.0)
    if step.filter == "bilinear":
        return writer.op("Max", writer.op("Sub", one, distance), none)
    if step.filter == "bicubic":
        a = step.cubic
        near = _polynomial(writer, distance, (a + 2, -(a + 3), 0.0, 1.0))
        far = _polynomial(writer, distance, (a, -5 * a, 8 * a, -4 * a))
        far = writer.op("Where", writer.op("Less", distance, writer.exact(2.0)), far, none)
        return writer.op("Where", writer.op("Less", distance, one), near, far)
    if step.filter == "mitchell":
        near = _polynomial(writer, distance, (7 / 6, -2.0, 0.0, 8 / 9))
        far = _polynomial(writer, distance, (-7 / 18, 2.0, -10 / 3, 16 / 9))
        far = writer.op("Where", writer.op("Less", distance, writer.exact(2.0)), far, none)
        return writer.op("Where", writer.op("Less", distance, one), near, far)
    radius = float(RADIUS[step.filter])
    if step.filter == "gaussian":
        power = writer.op("Mul", writer.op("Mul", distance, distance), writer.exact(-0.5 / GAUSSIAN**2))
        return writer.op("Where", writer.op("Less", distance, writer.exact(radius)), writer.op("Exp", power), none)
    if step.filter == "hamming":
        level, swing = HAMMING
        turned = writer.op("Add", writer.op("Mul", distance, writer.exact(np.pi)), writer.exact(np.pi / 2))
        window = writer.op("Add", writer.exact(level), writer.op("Mul", writer.exact(swing), writer.op("Sin", turned)))
    else:
        window = _sinc(writer, writer.op("Div", distance, writer.exact(radius)))
    value = writer.op("Mul", _sinc(writer, distance), window)
    return writer.op("Where", writer.op("Less", distance, writer.exact(radius)), value, none)


def _polynomial(writer: Writer, x: str, coefficients: Sequence[float]) -> str:
    result = writer.exact(coefficients[0])
    for coefficient in coefficients[1:]:
        result = writer.op("Add", writer.op("Mul", result, x), writer.exact(coefficient))
    return result


def _sinc(writer: Writer, x: str) -> str:
    turned = writer.op("Mul", x, writer.exact(np.pi))
    small = writer.op("Less", turned, writer.exact(1e-9))
    safe = writer.op("Where", small, writer.exact(1.0), turned)
    return writer.op("Where", small, writer.exact(1.0), writer.op("Div", writer.op("Sin", safe), safe))
