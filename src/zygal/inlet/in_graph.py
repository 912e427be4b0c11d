"""The frame and values stages as graph operators, for images of any size: 8-bit RGB [N, H, W, 3] in, the tensor out.

Resizes are the same two matrices, filled inside the graph from the image's own size. Sizes and places
are worked out in whole numbers and float64, sums of pixels in float32.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

import numpy as np

from zygal.errors import InletError
from zygal.inlet.frame import fill_colour
from zygal.inlet.resampling import WHOLE
from zygal.inlet.specification import Crop, Inlet, Pad, Resize, Values

LAYER = "inlet"


@dataclass(frozen=True)
class FrontNode:
    """One operator of the standard: its name there, names of values, attributes. A branch is its nodes and its result."""

    operator: str
    inputs: tuple[str, ...]
    outputs: tuple[str, ...]
    attributes: dict


@dataclass
class Front:
    """Operators that make `output` (the tensor) of `input` (the pixels), and their constants by name."""

    input: str
    output: str
    nodes: list[FrontNode] = field(default_factory=list)
    constants: dict[str, np.ndarray] = field(default_factory=dict)


def front_of(inlet: Inlet, input_name: str, output_name: str) -> Front:
    """The inlet after decoding, as operators. Raises InletError if every image keeps a size of its own.

    Rotation, transparency and 16-bit pixels are matters of files: they are done when the image is.
    """
    size = inlet.fixed_size()
    if size is None:
        raise InletError(
            "the inlet leaves the size to each image, so it cannot go into the artifact; end its frame with a crop."
        )
    writer = _Writer(Front(input_name, output_name))
    picture = writer.op("Transpose", writer.op("Cast", input_name, to=_FLOAT), perm=[0, 3, 1, 2])
    picture = _coloured(writer, picture, inlet)
    for step in inlet.frame:
        picture = {Resize: _resized, Crop: _cropped, Pad: _padded}[type(step)](writer, picture, step, inlet)
    if inlet.decode.colour == "bgr":
        picture = writer.op("Gather", picture, writer.whole([2, 1, 0]), axis=1)
    elif inlet.decode.colour == "grey" and inlet.channels == 3:
        picture = writer.op("Concat", picture, picture, picture, axis=1)
    # An image that is smaller than a crop is found out here, with both sizes in the message.
    picture = writer.op("Reshape", picture, writer.whole([-1, inlet.channels, *size]))
    picture = (
        _valued(writer, picture, inlet.values, inlet.channels, size) if inlet.tensor.dtype == "float32" else picture
    )
    if inlet.tensor.layout == "NHWC":
        picture = writer.op("Transpose", picture, perm=[0, 2, 3, 1])
    kind = _FLOAT if inlet.tensor.dtype == "float32" else _UINT8
    if inlet.tensor.dtype == "uint8":
        picture = writer.op("Clip", writer.op("Round", picture), writer.number(0.0), writer.number(255.0))
    writer.front.nodes.append(FrontNode("Cast", (picture,), (output_name,), {"to": kind}))
    return writer.front


# Numbers of the standard's element types.
_FLOAT, _UINT8, _INT64, _DOUBLE = 1, 2, 7, 11


class _Writer:
    """Adds operators and constants with names of their own."""

    def __init__(self, front: Front):
        self.front, self.made = front, 0

    def op(self, operator: str, *inputs: str, **attributes) -> str:
        self.made += 1
        name = f"{LAYER}.{operator.lower()}_{self.made}"
        self.front.nodes.append(FrontNode(operator, inputs, (name,), attributes))
        return name

    def either(self, condition: str, one: Callable[[], str], other: Callable[[], str]) -> str:
        """The value that `one` or `other` makes; what they add is run only if it is needed."""
        outside, branches = self.front.nodes, []
        for make in (one, other):
            self.front.nodes = []
            result = make()
            branches.append((tuple(self.front.nodes), result))
        self.front.nodes = outside
        return self.op("If", condition, then_branch=branches[0], else_branch=branches[1])

    def constant(self, array: np.ndarray) -> str:
        text = "x".join(map(str, array.reshape(-1).tolist()))
        name = f"{LAYER}:{array.dtype}:{list(array.shape)}:{text}"
        self.front.constants[name] = array
        return name

    def number(self, value: float) -> str:
        return self.constant(np.array(value, np.float32))

    def exact(self, value: float) -> str:
        return self.constant(np.array(value, np.float64))

    def whole(self, values: int | Sequence[int]) -> str:
        return self.constant(np.array(values, np.int64))

    def side(self, picture: str, axis: int) -> str:
        """The length of an axis, a whole number without axes."""
        return self.op("Gather", self.op("Shape", picture), self.whole(axis))

    def to(self, value: str, kind: int) -> str:
        return self.op("Cast", value, to=kind)

    def at(self, values: str, axis: int) -> str:
        return self.op("Unsqueeze", values, self.whole([axis]))

    def count(self, length: str) -> str:
        """0, 1, ... length - 1 in float64."""
        return self.op("Range", self.exact(0.0), self.to(length, _DOUBLE), self.exact(1.0))

    def rounded(self, picture: str, how: str) -> str:
        """To whole levels of 0 to 255: "up" from the half on, "even" halves to even, "down"."""
        if how == "even":
            picture = self.op("Round", picture)
        else:
            picture = self.op("Floor", self.op("Add", picture, self.number(0.5 if how == "up" else WHOLE)))
        return self.op("Clip", picture, self.number(0.0), self.number(255.0))


def _coloured(writer: _Writer, picture: str, inlet: Inlet) -> str:
    decode = inlet.decode
    if decode.colour == "grey":
        weights, rounding = np.array(decode.grey_weights), decode.grey_rounding
        if rounding.startswith("nearest"):
            bits = 16 if rounding == "nearest" else 15
            red, green = (round(weight * 2**bits) for weight in decode.grey_weights[:2])
            weights = np.array([red, green, round(weights.sum() * 2**bits) - red - green]) / 2**bits
        columns = writer.constant(weights.astype(np.float32).reshape(1, 3, 1, 1))
        picture = writer.op("ReduceSum", writer.op("Mul", picture, columns), writer.whole([1]), keepdims=1)
        if rounding != "none":
            picture = writer.rounded(picture, "down" if rounding == "down" else "up")
    if decode.polarity == "inverted":
        picture = writer.op("Sub", writer.number(255.0), picture)
    for axis, way in ((2, "vertical"), (3, "horizontal")):
        if decode.mirror in (way, "both"):
            ends = writer.whole([-1]), writer.whole([-(2**31)]), writer.whole([axis]), writer.whole([-1])
            picture = writer.op("Slice", picture, *ends)
    return picture


def _resized(writer: _Writer, picture: str, step: Resize, inlet: Inlet) -> str:
    before = writer.side(picture, 2), writer.side(picture, 3)
    after = _size_after(writer, before, step)
    if step.filter == "nearest":
        for axis in (0, 1):
            picture = writer.op("Gather", picture, _nearest(writer, before[axis], after[axis], step), axis=axis + 2)
        return picture
    rows, columns = (_matrix(writer, was, becomes, step) for was, becomes in zip(before, after))
    columns = writer.op("Transpose", columns, perm=[1, 0])
    between = "up" if step.rounding.startswith("passes") else None
    if step.rounding == "passes" and step.order == "by-shrinkage":
        return _either_first(writer, picture, rows, columns, before, after)
    picture = writer.op("MatMul", picture, columns)
    picture = writer.rounded(picture, between) if between else picture
    picture = writer.op("MatMul", rows, picture)
    final = {"passes": "up", "passes-16bit": "up", "end": "even", "fixed": "up", "down": "down", "none": None}[
        step.rounding
    ]
    return writer.rounded(picture, final) if final else picture


def _either_first(writer: _Writer, picture: str, rows: str, columns: str, before, after) -> str:
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


def _size_after(writer: _Writer, before: tuple[str, str], step: Resize) -> tuple[str, str]:
    if step.size is not None:
        return tuple(writer.whole(side) for side in step.size)
    height, width = before
    if step.short_side is not None:
        short = writer.whole(step.short_side)
        product = writer.op("Mul", short, writer.op("Max", height, width))
        long = _divided(writer, product, writer.op("Min", height, width), step.long_side)
        upright = writer.op("LessOrEqual", height, width)
        return writer.op("Where", upright, short, long), writer.op("Where", upright, long, short)
    tall, wide = (writer.whole(side) for side in step.within)
    by_height = writer.op("LessOrEqual", writer.op("Mul", tall, width), writer.op("Mul", wide, height))
    fits = []
    for limit, product, by in ((tall, (wide, height), width), (wide, (tall, width), height)):
        side = _divided(writer, writer.op("Mul", *product), by, step.long_side)
        fits.append(writer.op("Min", limit, writer.op("Max", side, writer.whole(1))))
    return writer.op("Where", by_height, tall, fits[0]), writer.op("Where", by_height, fits[1], wide)


def _divided(writer: _Writer, product: str, by: str, rounding: str) -> str:
    if rounding == "nearest":
        quotient = writer.op("Div", writer.to(product, _DOUBLE), writer.to(by, _DOUBLE))
        return writer.to(writer.op("Round", quotient), _INT64)
    if rounding == "up":
        product = writer.op("Add", product, writer.op("Sub", by, writer.whole(1)))
    return writer.op("Div", product, by)


def _centres(writer: _Writer, inputs: str, outputs: str, grid: str) -> str:
    """float64 [outputs]; see `resampling`."""
    place = writer.count(outputs)
    if grid == "corners":
        last = [writer.to(writer.op("Sub", side, writer.whole(1)), _DOUBLE) for side in (inputs, outputs)]
        return writer.op("Mul", place, writer.op("Div", last[0], writer.op("Max", last[1], writer.exact(1.0))))
    scale = writer.op("Div", writer.to(inputs, _DOUBLE), writer.to(outputs, _DOUBLE))
    if grid == "asymmetric":
        return writer.op("Mul", place, scale)
    half = writer.exact(0.5)
    return writer.op("Sub", writer.op("Mul", writer.op("Add", place, half), scale), half)


def _nearest(writer: _Writer, inputs: str, outputs: str, step: Resize) -> str:
    if step.grid == "half-pixel" and step.scale == "exact":
        # Pillow adds the scale up from place to place, and so do we.
        scale = writer.op("Div", writer.to(inputs, _DOUBLE), writer.to(outputs, _DOUBLE))
        first = writer.at(writer.op("Mul", scale, writer.exact(0.5)), 0)
        others = writer.op("Expand", scale, writer.at(writer.op("Sub", outputs, writer.whole(1)), 0))
        places = writer.op("CumSum", writer.op("Concat", first, others, axis=0), writer.whole(0))
        found = writer.to(writer.op("Floor", places), _INT64)
    else:
        centres = _centres(writer, inputs, outputs, step.grid)
        shifted = writer.op("Add", centres, writer.exact(0.0 if step.grid == "asymmetric" else 0.5))
        found = writer.to(writer.op("Floor", writer.op("Add", shifted, writer.exact(1e-9))), _INT64)
    return writer.op("Min", found, writer.op("Sub", inputs, writer.whole(1)))


def _matrix(writer: _Writer, inputs: str, outputs: str, step: Resize) -> str:
    """The resize of one axis, float32 [outputs, inputs]."""
    taps = writer.at(writer.count(inputs), 0)
    scale = writer.op("Div", writer.to(inputs, _DOUBLE), writer.to(outputs, _DOUBLE))
    one, none = writer.exact(1.0), writer.exact(0.0)
    if step.filter in ("area", "adaptive"):
        place = writer.at(writer.count(outputs), 1)
        low, high = (writer.op("Mul", writer.op("Add", place, writer.exact(k)), scale) for k in (0.0, 1.0))
        if step.filter == "adaptive":
            # Whole numbers that a division leaves a little off count as whole.
            low = writer.op("Floor", writer.op("Add", low, writer.exact(1e-9)))
            high = writer.op("Ceil", writer.op("Sub", high, writer.exact(1e-9)))
        covered = writer.op("Sub", writer.op("Min", writer.op("Add", taps, one), high), writer.op("Max", taps, low))
        weights = writer.op("Max", covered, none)
    else:
        centres = writer.at(_centres(writer, inputs, outputs, step.grid), 1)
        widened = writer.op("Max", scale, one) if step.antialias or step.filter == "box" else one
        if step.filter == "box":
            weights = _box(writer, taps, centres, outputs, scale, widened, step)
        elif step.edges == "repeat":
            weights = _with_repeated_edges(writer, centres, widened, inputs, step)
        else:
            weights = _kernel(
                writer, writer.op("Div", writer.op("Abs", writer.op("Sub", taps, centres)), widened), step
            )
    sums = writer.op("ReduceSum", weights, writer.whole([1]), keepdims=1)
    return writer.to(_in_bits(writer, writer.op("Div", weights, sums), step), _FLOAT)


def _box(writer: _Writer, taps: str, centres: str, outputs: str, scale: str, widened: str, step: Resize) -> str:
    """1 for the pixels whose centres lie within half a step of an output's, in the order of the sums of `resampling`."""
    half = writer.exact(0.5)
    middle = writer.op("Add", centres, half)
    if step.grid == "half-pixel":
        middle = writer.op("Mul", writer.op("Add", writer.at(writer.count(outputs), 1), half), scale)
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
    return writer.to(met, _DOUBLE)


def _in_bits(writer: _Writer, weights: str, step: Resize) -> str:
    """Weights as multiples of a power of two, as `step` has them."""
    if step.rounding == "passes-16bit":
        largest = writer.op("ReduceMax", weights, keepdims=0)
        bits = writer.op("Floor", writer.op("Div", writer.op("Log", writer.op("Div", writer.exact(2.0**15 - 1), largest)),
                                            writer.exact(float(np.log(2.0)))))  # fmt: skip
        unit = writer.op("Pow", writer.exact(2.0), writer.op("Min", bits, writer.exact(22.0)))
    elif step.rounding == "fixed" and step.filter != "area":
        unit = writer.exact(2048.0)
    else:
        return weights
    return writer.op("Div", writer.op("Round", writer.op("Mul", weights, unit)), unit)


_RADIUS = {"bilinear": 1, "hamming": 1, "bicubic": 2, "lanczos": 3, "lanczos4": 4, "lanczos5": 5}


def _with_repeated_edges(writer: _Writer, centres: str, widened: str, inputs: str, step: Resize) -> str:
    """Weights beyond the picture given to its border pixels: the picture seen with a border of so many pixels."""
    reach = writer.op("Ceil", writer.op("Mul", widened, writer.exact(float(_RADIUS[step.filter]))))
    end = writer.op("Add", writer.to(inputs, _DOUBLE), reach)
    taps = writer.op("Range", writer.op("Neg", reach), end, writer.exact(1.0))
    off = writer.op("Abs", writer.op("Sub", writer.at(taps, 0), centres))
    weights = _kernel(writer, writer.op("Div", off, widened), step)
    last = writer.to(writer.op("Sub", inputs, writer.whole(1)), _DOUBLE)
    clipped = writer.op("Min", writer.op("Max", taps, writer.exact(0.0)), last)
    goes_to = writer.op(
        "Equal", writer.to(writer.at(clipped, 1), _INT64), writer.to(writer.at(writer.count(inputs), 0), _INT64)
    )
    return writer.op("MatMul", weights, writer.to(goes_to, _DOUBLE))


def _kernel(writer: _Writer, distance: str, step: Resize) -> str:
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
    radius = float(_RADIUS[step.filter])
    if step.filter == "hamming":
        turned = writer.op("Add", writer.op("Mul", distance, writer.exact(np.pi)), writer.exact(np.pi / 2))
        window = writer.op("Add", writer.exact(0.54), writer.op("Mul", writer.exact(0.46), writer.op("Sin", turned)))
    else:
        window = _sinc(writer, writer.op("Div", distance, writer.exact(radius)))
    value = writer.op("Mul", _sinc(writer, distance), window)
    return writer.op("Where", writer.op("Less", distance, writer.exact(radius)), value, none)


def _polynomial(writer: _Writer, x: str, coefficients: Sequence[float]) -> str:
    result = writer.exact(coefficients[0])
    for coefficient in coefficients[1:]:
        result = writer.op("Add", writer.op("Mul", result, x), writer.exact(coefficient))
    return result


def _sinc(writer: _Writer, x: str) -> str:
    turned = writer.op("Mul", x, writer.exact(np.pi))
    small = writer.op("Less", turned, writer.exact(1e-9))
    safe = writer.op("Where", small, writer.exact(1.0), turned)
    return writer.op("Where", small, writer.exact(1.0), writer.op("Div", writer.op("Sin", safe), safe))


def _cropped(writer: _Writer, picture: str, step: Crop, inlet: Inlet) -> str:
    starts, ends = [], []
    sides = writer.side(picture, 2), writer.side(picture, 3)
    for axis, side in enumerate(sides):
        length = _cropped_side(writer, sides, axis, step)
        start = _margin(writer, writer.op("Sub", side, length), step.centring)
        starts.append(writer.at(start, 0))
        ends.append(writer.at(writer.op("Add", start, length), 0))
    bounds = writer.op("Concat", *starts, axis=0), writer.op("Concat", *ends, axis=0)
    return writer.op("Slice", picture, *bounds, writer.whole([2, 3]))


def _cropped_side(writer: _Writer, sides: tuple[str, str], axis: int, step: Crop) -> str:
    side, one = sides[axis], writer.whole(1)
    if step.size is not None:
        return writer.whole(step.size[axis])
    if step.aspect is not None:
        mine, other = step.aspect[axis], step.aspect[1 - axis]
        fits = writer.op("Div", writer.op("Mul", sides[1 - axis], writer.whole(mine)), writer.whole(other))
        return writer.op("Max", one, writer.op("Min", side, fits))
    exact = writer.to(side, _DOUBLE)
    part = writer.op("Mul", exact, writer.exact(step.fraction))
    if step.fraction_rounding == "size":
        return writer.op("Max", one, writer.to(part, _INT64))
    half = writer.op("Div", writer.op("Sub", exact, part), writer.exact(2.0))
    twice = writer.op("Mul", writer.whole(2), writer.to(half, _INT64))
    return writer.op("Max", one, writer.op("Sub", side, twice))


def _margin(writer: _Writer, spare: str, centring: str) -> str:
    if centring == "start":
        return writer.op("Mul", spare, writer.whole(0))
    if centring == "end":
        return spare
    if centring == "nearest":
        return writer.to(writer.op("Round", writer.op("Div", writer.to(spare, _DOUBLE), writer.exact(2.0))), _INT64)
    return writer.op("Div", writer.op("Add", spare, writer.whole(1 if centring == "up" else 0)), writer.whole(2))


def _padded(writer: _Writer, picture: str, step: Pad, inlet: Inlet) -> str:
    sides = writer.side(picture, 2), writer.side(picture, 3)
    before, after = [], []
    for axis, side in enumerate(sides):
        if step.size is not None:
            wanted = writer.whole(step.size[axis])
        else:
            mine, other = step.aspect[axis], step.aspect[1 - axis]
            grown = writer.op("Div", writer.op("Mul", sides[1 - axis], writer.whole(mine)), writer.whole(other))
            wanted = writer.op("Max", side, grown)
        spare = writer.op("Sub", wanted, side)
        start = _margin(writer, spare, step.centring)
        before.append(writer.at(start, 0))
        after.append(writer.at(writer.op("Sub", spare, start), 0))
    none = writer.whole([0, 0])
    widths = writer.op("Concat", none, *before, none, *after, axis=0)
    # The operator fills with one number: the colour is taken off and put back around it.
    colour = writer.constant(fill_colour(step, inlet.decode).astype(np.float32).reshape(1, -1, 1, 1))
    return writer.op("Add", writer.op("Pad", writer.op("Sub", picture, colour), widths, writer.number(0.0)), colour)


def _valued(writer: _Writer, picture: str, values: Values, channels: int, size: tuple[int, int]) -> str:
    low, high = values.range
    if high - low != 255:
        picture = writer.op("Mul", picture, writer.number(high - low)) if high - low != 1 else picture
        picture = writer.op("Div", picture, writer.number(255.0))
    if low:
        picture = writer.op("Add", picture, writer.number(low))
    if values.per_image == "none":
        for operator, numbers in (("Sub", values.mean), ("Div", values.std)):
            if numbers is not None:
                constant = writer.constant(np.array(numbers, np.float32).reshape(1, -1, 1, 1))
                picture = writer.op(operator, picture, constant)
        return picture
    if values.per_image == "stretch":
        flat = writer.op("Reshape", picture, writer.whole([-1, 1, 1, channels * size[0] * size[1]]))
        top, bottom = (writer.op("MaxPool", each, kernel_shape=[1, channels * size[0] * size[1]])
                       for each in (flat, writer.op("Neg", flat)))  # fmt: skip
        width = writer.op("Add", top, bottom)
        safe = writer.op("Where", writer.op("Greater", width, writer.number(0.0)), width, writer.number(1.0))
        return writer.op("Div", writer.op("Add", picture, bottom), safe)
    axes = writer.whole([1, 2, 3] if values.per_image == "standardise" else [2, 3])
    count = size[0] * size[1] * (channels if values.per_image == "standardise" else 1)
    each = writer.number(float(count))
    mean = writer.op("Div", writer.op("ReduceSum", picture, axes, keepdims=1), each)
    centred = writer.op("Sub", picture, mean)
    variance = writer.op("Div", writer.op("ReduceSum", writer.op("Mul", centred, centred), axes, keepdims=1), each)
    deviation = writer.op("Max", writer.op("Sqrt", variance), writer.number(count**-0.5))
    return writer.op("Div", centred, deviation)
