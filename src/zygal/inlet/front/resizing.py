"""A resize inside a graph: sizes and scales from the image's own size, and the two axes one after the other; see
`resampling`."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from zygal.inlet.front.bands import Side, along, band_of, started
from zygal.inlet.front.writer import DOUBLE, FLOAT, INT64, Picture, Writer
from zygal.inlet.specification import Resize

Bounds = Callable[[tuple[str, str]], list[tuple[str, str]]]
"""From the sides after a resize to the start and length of the part of each that is wanted."""


def can_be_cut(step: Resize) -> bool:
    """Whether a part of the result can be made alone."""
    return step.enlarge and step.filter != "nearest"


def resized(writer: Writer, picture: Picture, step: Resize, bounds: Bounds | None = None) -> Picture:
    """The picture after a resize, in float32, its channels first; bounds: only that part of it."""
    before = writer.side(picture, "H"), writer.side(picture, "W")
    if not step.enlarge:
        # A picture that would grow is left as it is.
        as_it_is = picture.holding(writer.real(picture.value))
        grows = writer.op(
            "Greater", _enlargement(writer, [writer.to(side, DOUBLE) for side in before], step), writer.exact(1.0)
        )
        return Picture(
            writer.either(
                grows,
                lambda: writer.ordered(as_it_is, "CHW").value,
                lambda: resized(writer, picture, replace(step, enlarge=True)).value,
            ),
            "CHW",
        )
    sides = _sides(writer, before, step)
    if step.filter == "nearest":
        for side, letter in zip(sides, "HW"):
            picture = picture.holding(
                writer.op("Gather", picture.value, _nearest(writer, side, step), axis=picture.axis(letter))
            )
        return writer.ordered(picture.holding(writer.real(picture.value)), "CHW")
    parts = bounds(tuple(side.outputs for side in sides)) if bounds else (None, None)
    bands = {letter: band_of(writer, side, step, part) for side, letter, part in zip(sides, "HW", parts)}
    between = "up" if step.rounding.startswith("passes") else None
    final = {
        "passes": "up",
        "passes-16bit": "up",
        "end": "even",
        "fixed": "up",
        "fixed-8bit": "up",
        "down": "down",
        "none": None,
    }[step.rounding]

    def in_order(letters: str) -> str:
        made = picture
        for letter, rounding in zip(letters, (between, final)):
            made = along(writer, made, letter, bands[letter])
            made = made.holding(writer.rounded(made.value, rounding)) if rounding else made
        return writer.ordered(made, "CHW").value

    if step.rounding != "passes" or step.order != "by-shrinkage":
        return Picture(in_order("WH"), "CHW")
    # Only the one order is run.
    lost, lost_across = (writer.op("Sub", was, side.outputs) for was, side in zip(before, sides))
    twice = writer.op("Mul", lost_across, writer.whole(2))
    shrinks = writer.op("And", writer.op("Greater", lost, writer.whole(0)), writer.op("Greater", lost, twice))
    return Picture(writer.either(shrinks, lambda: in_order("HW"), lambda: in_order("WH")), "CHW")


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
        Side(was, becomes, writer.op("Div", side, writer.to(becomes, DOUBLE)), None)
        for was, becomes, side in zip(before, after, exact)
    )


def _boxes_of(writer: Writer, before: tuple[str, str], step: Resize) -> list[tuple[str, str]]:
    """Start and length of the largest part with the proportions of the step's size, on each axis, in float64."""
    found = []
    for axis in (0, 1):
        other, ratio = before[1 - axis], (step.size[axis], step.size[1 - axis])
        if step.box == "aspect-pixels":
            length = writer.op(
                "Min",
                before[axis],
                writer.op("Div", writer.op("Mul", other, writer.whole(ratio[0])), writer.whole(ratio[1])),
            )
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
            return writer.to(
                writer.op("Floor", writer.op("Add", writer.to(side.start, FLOAT), writer.op("Mul", index, scale))),
                INT64,
            )
    elif step.scale == "float64" and whole:
        # Not one divided by it: the runtime would join that division with the product.
        sides = [writer.to(each, DOUBLE) for each in (side.inputs, side.outputs)]
        scale = writer.op("Reciprocal", writer.op("Div", sides[1], sides[0]))
    return writer.to(writer.op("Floor", started(writer, side, writer.op("Mul", index, scale))), INT64)
