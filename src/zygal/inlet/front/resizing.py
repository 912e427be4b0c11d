"""A resize inside a graph: its two matrices, filled from the sizes that the image turns out to have; see `resampling`."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from zygal.inlet.front.writer import DOUBLE, FLOAT, INT64, Writer
from zygal.inlet.resampling import GAUSSIAN, HAMMING, RADIUS
from zygal.inlet.specification import Resize


@dataclass(frozen=True)
class Side:
    """One axis of a resize as values of the graph: see `sizes.Axis`."""

    inputs: str
    outputs: str
    scale: str
    start: str | None


def resized(writer: Writer, picture: str, step: Resize) -> str:
    """The picture [N, C, H, W] after a resize."""
    if not step.enlarge:
        # A picture that would grow is left as it is.
        exact = [writer.to(writer.side(picture, axis), DOUBLE) for axis in (2, 3)]
        grows = writer.op("Greater", _enlargement(writer, exact, step), writer.exact(1.0))
        return writer.either(grows, lambda: writer.op("Identity", picture), lambda: resized(writer, picture, replace(step, enlarge=True)))
    before = writer.side(picture, 2), writer.side(picture, 3)
    sides = _sides(writer, before, step)
    after = tuple(side.outputs for side in sides)
    if step.filter == "nearest":
        for axis in (0, 1):
            picture = writer.op("Gather", picture, _nearest(writer, sides[axis], step), axis=axis + 2)
        return picture
    rows, columns = (_matrix(writer, side, step) for side in sides)
    columns = writer.op("Transpose", columns, perm=[1, 0])
    between = "up" if step.rounding.startswith("passes") else None
    if step.rounding == "passes" and step.order == "by-shrinkage":
        return _either_first(writer, picture, rows, columns, before, after)
    picture = writer.op("MatMul", picture, columns)
    picture = writer.rounded(picture, between) if between else picture
    picture = writer.op("MatMul", rows, picture)
    final = {"passes": "up", "passes-16bit": "up", "end": "even", "fixed": "up", "fixed-8bit": "up", "down": "down", "none": None}[
        step.rounding
    ]
    return writer.rounded(picture, final) if final else picture


def _sides(writer: Writer, before: tuple[str, str], step: Resize) -> tuple[Side, Side]:
    after = _size_after(writer, before, step)
    exact = [writer.to(side, DOUBLE) for side in before]
    if step.box.startswith("aspect"):
        boxes = _boxes_of(writer, before, step)
        return tuple(
            Side(was, becomes, writer.op("Div", length, writer.to(becomes, DOUBLE)), start)
            for was, becomes, (start, length) in zip(before, after, boxes)
        )
    if step.grid_scale != "sizes":
        by = _enlargement(writer, exact, step)
        by = writer.to(writer.to(by, FLOAT), DOUBLE) if step.grid_scale == "factor-float32" else by
        by = writer.op("Div", writer.exact(1.0), by)
        return tuple(Side(was, becomes, by, None) for was, becomes in zip(before, after))
    return tuple(
        Side(was, becomes, writer.op("Div", side, writer.to(becomes, DOUBLE)), None) for was, becomes, side in zip(before, after, exact)
    )


def _boxes_of(writer: Writer, before: tuple[str, str], step: Resize) -> list[tuple[str, str]]:
    """Start and length of the largest part with the proportions of the step's size, on each axis, in float64."""
    found = []
    for axis in (0, 1):
        other, ratio = before[1 - axis], (step.size[axis], step.size[1 - axis])
        if step.box == "aspect-pixels":
            length = writer.op("Min", before[axis], writer.op("Div", writer.op("Mul", other, writer.whole(ratio[0])), writer.whole(ratio[1])))
            start = writer.op("Div", writer.op("Sub", before[axis], length), writer.whole(2))
            found.append((writer.to(start, DOUBLE), writer.to(length, DOUBLE)))
            continue
        side = writer.to(before[axis], DOUBLE)
        length = writer.op("Min", side, writer.op("Mul", writer.to(other, DOUBLE), writer.exact(ratio[0] / ratio[1])))
        found.append((writer.op("Mul", writer.op("Sub", side, length), writer.exact(0.5)), length))
    return found


def _enlargement(writer: Writer, exact: list[str], step: Resize) -> str:
    """By how much the resize enlarges both sides before they are rounded."""
    if step.factor is not None:
        return writer.exact(step.factor)
    if step.short_side is not None:
        return writer.op("Div", writer.exact(float(step.short_side)), writer.op("Min", *exact))
    by = [writer.op("Div", writer.exact(float(wanted)), side) for wanted, side in zip(step.within or step.cover, exact)]
    return writer.op("Min" if step.within else "Max", *by)


def _either_first(writer: Writer, picture: str, rows: str, columns: str, before, after) -> str:
    """Two passes, rows first where that is the convention; only the one order is run."""
    lost, lost_across = (writer.op("Sub", was, becomes) for was, becomes in zip(before, after))
    twice = writer.op("Mul", lost_across, writer.whole(2))
    shrinks = writer.op("And", writer.op("Greater", lost, writer.whole(0)), writer.op("Greater", lost, twice))

    def rows_first() -> str:
        across = writer.rounded(writer.op("MatMul", rows, picture), "up")
        return writer.rounded(writer.op("MatMul", across, columns), "up")

    def columns_first() -> str:
        across = writer.rounded(writer.op("MatMul", picture, columns), "up")
        return writer.rounded(writer.op("MatMul", rows, across), "up")

    return writer.either(shrinks, rows_first, columns_first)


def _size_after(writer: Writer, before: tuple[str, str], step: Resize) -> tuple[str, str]:
    if step.size is not None:
        return tuple(writer.whole(side) for side in step.size)
    return _following(writer, before, step)


def _following(writer: Writer, before: tuple[str, str], step: Resize) -> tuple[str, str]:
    height, width = before
    if step.factor is not None:
        rounding = {"down": "Floor", "up": "Ceil"}.get(step.long_side, "Round")
        sides = (writer.op("Mul", writer.to(side, DOUBLE), writer.exact(step.factor)) for side in before)
        return tuple(writer.op("Max", writer.whole(1), writer.to(writer.op(rounding, side), INT64)) for side in sides)
    if step.short_side is not None:
        short = writer.whole(step.short_side)
        product = writer.op("Mul", short, writer.op("Max", height, width))
        long = _divided(writer, product, writer.op("Min", height, width), step.long_side)
        upright = writer.op("LessOrEqual", height, width)
        return writer.op("Where", upright, short, long), writer.op("Where", upright, long, short)
    tall, wide = (writer.whole(side) for side in step.within or step.cover)
    products = writer.op("Mul", tall, width), writer.op("Mul", wide, height)
    by_height = writer.op("LessOrEqual", *(products if step.within else products[::-1]))
    if step.cover:
        # Where both sides fit exactly it does not matter by which of them.
        by_height = writer.op("Less", products[1], products[0])
    fits = []
    for limit, product, by in ((tall, (wide, height), width), (wide, (tall, width), height)):
        side = _divided(writer, writer.op("Mul", *product), by, step.long_side)
        fits.append(writer.op("Min" if step.within else "Max", limit, writer.op("Max", side, writer.whole(1))))
    return writer.op("Where", by_height, tall, fits[0]), writer.op("Where", by_height, fits[1], wide)


def _divided(writer: Writer, product: str, by: str, rounding: str) -> str:
    if rounding == "nearest":
        quotient = writer.op("Div", writer.to(product, DOUBLE), writer.to(by, DOUBLE))
        return writer.to(writer.op("Round", quotient), INT64)
    if rounding == "up":
        product = writer.op("Add", product, writer.op("Sub", by, writer.whole(1)))
    return writer.op("Div", product, by)


def _centres(writer: Writer, side: Side, grid: str) -> str:
    """float64 [outputs]; see `resampling`."""
    index = writer.count(side.outputs)
    if grid == "corners":
        last = [writer.to(writer.op("Sub", each, writer.whole(1)), DOUBLE) for each in (side.inputs, side.outputs)]
        return writer.op("Mul", index, writer.op("Div", last[0], writer.op("Max", last[1], writer.exact(1.0))))
    if grid == "asymmetric":
        return _started(writer, side, writer.op("Mul", index, side.scale))
    half = writer.exact(0.5)
    return _started(writer, side, writer.op("Sub", writer.op("Mul", writer.op("Add", index, half), side.scale), half))


def _started(writer: Writer, side: Side, places: str) -> str:
    return writer.op("Add", side.start, places) if side.start else places


def _nearest(writer: Writer, side: Side, step: Resize) -> str:
    """int64 [outputs]; see `resampling`."""
    inputs, outputs = side.inputs, side.outputs
    if step.grid == "corners":
        last = writer.op("Sub", outputs, writer.whole(1))
        twice = writer.op("Mul", writer.whole(2), writer.op("Sub", inputs, writer.whole(1)))
        product = writer.op("Add", writer.op("Mul", writer.to(writer.count(outputs), INT64), twice), last)
        return writer.op("Div", product, writer.op("Mul", writer.whole(2), writer.op("Max", last, writer.whole(1))))
    whole = step.grid_scale == "sizes" and side.start is None
    if step.scale == "exact" and step.grid == "half-pixel":
        # Pillow adds the scale up from place to place, and so do we.
        first = writer.op("Mul", side.scale, writer.exact(0.5))
        first = writer.at(writer.op("Add", side.start, first) if side.start else first, 0)
        others = writer.op("Expand", side.scale, writer.at(writer.op("Sub", outputs, writer.whole(1)), 0))
        indices = writer.op("CumSum", writer.op("Concat", first, others, axis=0), writer.whole(0))
        found = writer.to(writer.op("Floor", indices), INT64)
    elif step.scale == "exact" and whole:
        found = writer.op("Div", writer.op("Mul", writer.to(writer.count(outputs), INT64), inputs), outputs)
    else:
        found = _nearest_by_rounded_scale(writer, side, step, whole)
    last = writer.op("Sub", inputs, writer.whole(1))
    return writer.op("Max", writer.whole(0), writer.op("Min", found, last))


def _nearest_by_rounded_scale(writer: Writer, side: Side, step: Resize, whole: bool) -> str:
    """The scale is rounded before it is multiplied with, in float32 or as the inverse of an inverse in float64."""
    index, scale = writer.count(side.outputs), side.scale
    if step.grid == "half-pixel":
        index = writer.op("Add", index, writer.exact(0.5))
    if step.scale == "float32":
        index, scale = writer.to(index, FLOAT), writer.to(scale, FLOAT)
        if side.start:
            return writer.to(writer.op("Floor", writer.op("Add", writer.to(side.start, FLOAT), writer.op("Mul", index, scale))), INT64)
    elif step.scale == "float64" and whole:
        # Not one divided by it: the runtime would join that division with the product.
        sides = [writer.to(each, DOUBLE) for each in (side.inputs, side.outputs)]
        scale = writer.op("Reciprocal", writer.op("Div", sides[1], sides[0]))
    return writer.to(writer.op("Floor", _started(writer, side, writer.op("Mul", index, scale))), INT64)


def _matrix(writer: Writer, side: Side, step: Resize) -> str:
    """The resize of one axis, float32 [outputs, inputs]."""
    inputs, outputs, scale = side.inputs, side.outputs, side.scale
    taps = writer.at(writer.count(inputs), 0)
    one, none = writer.exact(1.0), writer.exact(0.0)
    if step.filter in ("area", "adaptive"):
        index = writer.at(writer.count(outputs), 1)
        low, high = (writer.op("Mul", writer.op("Add", index, writer.exact(k)), scale) for k in (0.0, 1.0))
        if step.filter == "adaptive":
            # Whole numbers that a division leaves a little off count as whole.
            low = writer.op("Floor", writer.op("Add", low, writer.exact(1e-9)))
            high = writer.op("Ceil", writer.op("Sub", high, writer.exact(1e-9)))
        covered = writer.op("Sub", writer.op("Min", writer.op("Add", taps, one), high), writer.op("Max", taps, low))
        weights = writer.op("Max", covered, none)
    else:
        centres = writer.at(_centres(writer, side, step.grid), 1)
        widened = writer.op("Max", scale, one) if step.antialias or step.filter == "box" else one
        if step.filter == "box":
            weights = _box(writer, taps, centres, outputs, side, widened, step)
        elif step.edges == "repeat":
            weights = _with_repeated_edges(writer, centres, widened, inputs, step)
        else:
            weights = _kernel(
                writer, writer.op("Div", writer.op("Abs", writer.op("Sub", taps, centres)), widened), step
            )
    sums = writer.op("ReduceSum", weights, writer.whole([1]), keepdims=1)
    return writer.to(_in_bits(writer, writer.op("Div", weights, sums), step), FLOAT)


def _box(writer: Writer, taps: str, centres: str, outputs: str, side: Side, widened: str, step: Resize) -> str:
    """1 for the pixels whose centres lie within half a step of an output's, in the order of the sums of `resampling`."""
    half = writer.exact(0.5)
    middle = writer.op("Add", centres, half)
    if step.grid == "half-pixel":
        middle = _started(writer, side, writer.op("Mul", writer.op("Add", writer.at(writer.count(outputs), 1), half), side.scale))
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
        bits = writer.op("Floor", writer.op("Div", writer.op("Log", writer.op("Div", writer.exact(2.0**15 - 1), largest)),
                                            writer.exact(float(np.log(2.0)))))  # fmt: skip
        unit = writer.op("Pow", writer.exact(2.0), writer.op("Min", bits, writer.exact(22.0)))
    elif step.rounding == "fixed" and step.filter != "area":
        unit = writer.exact(2048.0)
    elif step.rounding == "fixed-8bit":
        unit = writer.exact(256.0)
    else:
        return weights
    return writer.op("Div", writer.op("Round", writer.op("Mul", weights, unit)), unit)


def _with_repeated_edges(writer: Writer, centres: str, widened: str, inputs: str, step: Resize) -> str:
    """Weights beyond the picture given to its border pixels: the picture seen with a border of so many pixels."""
    reach = writer.op("Ceil", writer.op("Mul", widened, writer.exact(float(RADIUS[step.filter]))))
    end = writer.op("Add", writer.to(inputs, DOUBLE), reach)
    taps = writer.op("Range", writer.op("Neg", reach), end, writer.exact(1.0))
    off = writer.op("Abs", writer.op("Sub", writer.at(taps, 0), centres))
    weights = _kernel(writer, writer.op("Div", off, widened), step)
    last = writer.to(writer.op("Sub", inputs, writer.whole(1)), DOUBLE)
    clipped = writer.op("Min", writer.op("Max", taps, writer.exact(0.0)), last)
    goes_to = writer.op(
        "Equal", writer.to(writer.at(clipped, 1), INT64), writer.to(writer.at(writer.count(inputs), 0), INT64)
    )
    return writer.op("MatMul", weights, writer.to(goes_to, DOUBLE))


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
