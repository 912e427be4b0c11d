"""The frame and values stages as graph operators, for images of any size: 8-bit RGB [N, H, W, 3] in, the tensor out.

Resizes are the same two matrices, filled inside the graph from the image's own size. Sizes and places
are computed in integers and float64, sums of pixels in float32.
"""

from __future__ import annotations

import numpy as np

from zygal.errors import InletError
from zygal.graph import Batch, Graph, TensorType
from zygal.graph.shapes import Open
from zygal.inlet.decode import whole_weights
from zygal.inlet.frame import blur_taps, fill_colour, fixed_taps
from zygal.inlet.front.resizing import can_be_cut, resized
from zygal.inlet.front.writer import DOUBLE, FLOAT, INT64, UINT8, Picture, Writer
from zygal.inlet.sizes import fixed_size
from zygal.inlet.specification import Blur, Crop, Inlet, Pad, Resize, Values


def front_of(inlet: Inlet, input_name: str, output_name: str) -> Graph:  # noqa: C901
    """The inlet after decoding, as operators. Raises InletError if every image keeps a size of its own.

    Rotation, transparency and 16-bit pixels are matters of files: they are done when the image is.
    """
    size = fixed_size(inlet)
    if size is None:
        raise InletError(
            "the inlet gives tensors as large as each image, so it cannot be put into the artifact; end its "
            "frame with a crop."
        )
    refused = unstated(inlet)
    if refused:
        raise InletError(
            f"{refused} cannot be put into the artifact; leave --raw-pixels out, and preprocess the images before it."
        )
    writer = Writer(input_name, TensorType(np.dtype(np.uint8), (Batch(), Open("H"), Open("W"), 3)))
    grey_last = inlet.decode.conversion == "grey-after-resize"
    last_resize = max((place for place, step in enumerate(inlet.frame) if isinstance(step, Resize)), default=-1)
    # Pixels stay 8-bit, and as they are stored, until something computes with them.
    picture = Picture(input_name, "HWC")
    picture = _turned(writer, picture if grey_last else _coloured(writer, picture, inlet), inlet)
    done = -1
    for place, step in enumerate(inlet.frame):
        if place <= done:
            continue
        if isinstance(step, Resize):
            following = inlet.frame[place + 1] if place + 1 < len(inlet.frame) else None
            joined = (
                can_be_cut(step)
                and isinstance(following, Crop)
                and following.missing is None
                and following.margins is None
            )
            # What a crop leaves out need not be computed.
            picture = resized(
                writer,
                picture,
                step,
                (lambda sides, crop=following: crop_bounds(writer, sides, crop)) if joined else None,
            )
            done = place + joined
        elif isinstance(step, Blur):
            picture = _blurred(writer, picture, step)
        elif isinstance(step, Crop) and step.missing is None:
            picture = _cropped(writer, picture, step)
        elif isinstance(step, Crop):
            picture = _cropped(writer, _padded(writer, picture, step, inlet), step)
        else:
            picture = _padded(writer, picture, step, inlet)
        if grey_last and place == last_resize:
            picture = _coloured(writer, picture, inlet)
    value = writer.ordered(picture, "CHW").value
    if inlet.decode.colour == "bgr":
        value = writer.op("Gather", value, writer.whole([2, 1, 0]), axis=1)
    elif inlet.decode.colour == "grey" and inlet.channels == 3:
        value = writer.op("Concat", value, value, value, axis=1)
    # An image that is smaller than a crop is found out here, with both sizes in the message.
    value = writer.real(writer.op("Reshape", value, writer.whole([0, inlet.channels, *size])))
    if inlet.tensor.dtype == "float32":
        value = _valued(writer, value, inlet.values, inlet.channels, size)
    else:
        value = writer.op("Clip", writer.op("Round", value), writer.number(0.0), writer.number(255.0))
    if inlet.tensor.layout == "NHWC":
        value = writer.op("Transpose", value, perm=[0, 2, 3, 1])
    return writer.finished(value, output_name, FLOAT if inlet.tensor.dtype == "float32" else UINT8)


def unstated(inlet: Inlet) -> str | None:
    """The first key with a value that operators are not written for, as the inlet's file has it, or None."""
    decode = inlet.decode
    if decode.jpeg_grey == "luma":
        return 'jpeg_grey = "luma" (the planes of a JPEG file are not in RGB pixels)'
    if decode.conversion == "after-resize":
        return 'conversion = "after-resize" (palettes and transparency are not in RGB pixels)'
    for step in inlet.frame:
        for name, values in _UNSTATED.get(type(step), {}).items():
            value = getattr(step, name)
            if value in values or name == "reduce_above" and value is not None:
                return f"{name} = {value if isinstance(value, float) else chr(34) + value + chr(34)}"
    return None


_UNSTATED = {
    Resize: {
        "filter": ("spline", "area-linear"),
        "edges": ("reflect", "zero"),
        "prefilter": ("gaussian",),
        "box": ("unreduced",),
        "long_side": ("closest-aspect",),
        "reduce_above": (),
    },
    Pad: {"border": ("symmetric",), "centring": ("unrounded",)},
    Blur: {"kind": ("three-boxes",)},
}


def _blurred(writer: Writer, picture: Picture, step: Blur) -> Picture:
    weights, channels = blur_taps(step), writer.channels(picture)
    weights = fixed_taps(weights) if step.rounding == "fixed-8bit" else weights
    reach = step.taps // 2
    value = writer.real(writer.ordered(picture, "CHW").value)
    value = writer.op("Pad", value, writer.whole([0, 0, reach, reach, 0, 0, reach, reach]), mode="reflect")
    for shape in ((1, step.taps), (step.taps, 1)):
        kernel = np.tile(weights.astype(np.float32).reshape(1, 1, *shape), (channels, 1, 1, 1))
        value = writer.op("Conv", value, writer.constant(kernel), group=channels)
    if step.rounding != "none":
        value = writer.rounded(value, "up" if step.rounding == "fixed-8bit" else "even")
    return Picture(value, "CHW")


def _bright_border(writer: Writer, picture: Picture) -> str:
    """[N, 1, 1, 1]: whether the mean of the outermost rows and columns is above 127.5."""
    height, width, channels = (writer.to(writer.side(picture, letter), FLOAT) for letter in "HWC")
    ends = ((writer.whole([0]), writer.whole([1])), (writer.whole([-1]), writer.whole([2**31])))
    edges = [
        writer.op("Slice", picture.value, *end, writer.whole([picture.axis(letter)])) for letter in "HW" for end in ends
    ]
    sums = [writer.op("ReduceSum", edge, writer.whole([1, 2, 3]), keepdims=1) for edge in edges]
    total = writer.op("Add", writer.op("Add", sums[0], sums[1]), writer.op("Add", sums[2], sums[3]))
    around = writer.op("Mul", writer.op("Mul", writer.op("Add", height, width), writer.number(2.0)), channels)
    return writer.op("Greater", writer.op("Div", total, around), writer.number(127.5))


def _coloured(writer: Writer, picture: Picture, inlet: Inlet) -> Picture:
    decode = inlet.decode
    if decode.colour != "grey":
        return picture
    weights, rounding = np.array(decode.grey_weights), decode.grey_rounding
    value = writer.real(writer.ordered(picture, "CHW").value)
    if rounding.startswith("nearest"):
        bits = 16 if rounding == "nearest" else 15
        weights = whole_weights(decode.grey_weights, bits) / 2**bits
        # 8-bit pixels are whole as they are.
        value = value if writer.is_8_bit(picture.value) else writer.rounded(value, "even")
    elif rounding == "down-15bit":
        weights = whole_weights(decode.grey_weights, 15, np.floor) / 2**15
    # A product with the planes, because a convolution to one channel is computed as one to many.
    sides = writer.op("Shape", value)
    planes = writer.op("Reshape", value, writer.whole([0, 3, -1]))
    value = writer.op("MatMul", writer.constant(weights.astype(np.float32).reshape(1, 3)), planes)
    shape = writer.op("Mul", sides, writer.whole([1, 0, 1, 1]))
    value = writer.op(
        "MeasuredReshape", value, writer.op("Add", shape, writer.whole([0, 1, 0, 0])), known=[1, None, None]
    )
    if rounding == "stretched":
        value = writer.op("Mul", value, writer.number(255.5 / 255))
    if rounding != "none":
        value = writer.rounded(value, "up" if rounding.startswith("nearest") else "down")
    return Picture(value, "CHW")


def _turned(writer: Writer, picture: Picture, inlet: Inlet) -> Picture:
    """Light and dark exchanged, and mirrored."""
    decode = inlet.decode
    if decode.polarity != "as-is":
        picture = picture.holding(writer.real(picture.value))
        inverted = writer.op("Sub", writer.number(255.0), picture.value)
        if decode.polarity == "dark-ground":
            inverted = writer.op("Where", _bright_border(writer, picture), inverted, picture.value)
        picture = picture.holding(inverted)
    for letter, direction in (("H", "vertical"), ("W", "horizontal")):
        if decode.mirror in (direction, "both"):
            ends = (
                writer.whole([-1]),
                writer.whole([-(2**31)]),
                writer.whole([picture.axis(letter)]),
                writer.whole([-1]),
            )
            picture = picture.holding(writer.op("Slice", picture.value, *ends))
    return picture


def _cropped(writer: Writer, picture: Picture, step: Crop) -> Picture:
    sides, axes = (
        tuple(writer.side(picture, letter) for letter in "HW"),
        writer.whole([picture.axis(letter) for letter in "HW"]),
    )
    if step.margins is not None:
        top, bottom, left, right = step.margins
        ends = [writer.at(writer.op("Sub", side, writer.whole(by)), 0) for side, by in zip(sides, (bottom, right))]
        return picture.holding(
            writer.op("Slice", picture.value, writer.whole([top, left]), writer.op("Concat", *ends, axis=0), axes)
        )
    bounds = crop_bounds(writer, sides, step)
    starts = [writer.at(start, 0) for start, _ in bounds]
    ends = [writer.at(writer.op("Add", start, length), 0) for start, length in bounds]
    return picture.holding(
        writer.op(
            "Slice", picture.value, writer.op("Concat", *starts, axis=0), writer.op("Concat", *ends, axis=0), axes
        )
    )


def crop_bounds(writer: Writer, sides: tuple[str, str], step: Crop) -> list[tuple[str, str]]:
    """Start and length of a crop on each axis."""
    found = []
    for axis, side in enumerate(sides):
        length = _cropped_side(writer, sides, axis, step)
        start = _margin(writer, writer.op("Sub", side, length), step.centring)
        if step.centring == "equal":
            length = writer.op("Sub", side, writer.op("Mul", writer.whole(2), start))
        found.append((start, length))
    return found


def _cropped_side(writer: Writer, sides: tuple[str, str], axis: int, step: Crop) -> str:
    side, one = sides[axis], writer.whole(1)
    if step.size is not None:
        return writer.whole(step.size[axis])
    if step.aspect is not None and step.fraction is not None:
        by = [
            writer.op("Div", writer.to(each, DOUBLE), writer.exact(float(part)))
            for each, part in zip(sides, step.aspect)
        ]
        length = writer.op(
            "Mul",
            writer.op("Mul", writer.op("Min", *by), writer.exact(step.fraction)),
            writer.exact(float(step.aspect[axis])),
        )
        return writer.op("Max", one, writer.to(writer.op("Floor", writer.op("Add", length, writer.exact(1e-9))), INT64))
    if step.aspect is not None:
        ratio, other = step.aspect[axis], step.aspect[1 - axis]
        fits = writer.op("Div", writer.op("Mul", sides[1 - axis], writer.whole(ratio)), writer.whole(other))
        return writer.op("Max", one, writer.op("Min", side, fits))
    exact = writer.to(side, DOUBLE)
    part = writer.op("Mul", exact, writer.exact(step.fraction))
    if step.fraction_rounding == "size":
        return writer.op("Max", one, writer.to(part, INT64))
    half = writer.op("Div", writer.op("Sub", exact, part), writer.exact(2.0))
    twice = writer.op("Mul", writer.whole(2), writer.to(half, INT64))
    return writer.op("Max", one, writer.op("Sub", side, twice))


def _margin(writer: Writer, spare: str, centring: str) -> str:
    if centring == "start":
        return writer.op("Mul", spare, writer.whole(0))
    if centring == "end":
        return spare
    if centring == "nearest":
        return writer.to(writer.op("Round", writer.op("Div", writer.to(spare, DOUBLE), writer.exact(2.0))), INT64)
    return writer.op("Div", writer.op("Add", spare, writer.whole(1 if centring == "up" else 0)), writer.whole(2))


def _padded(writer: Writer, picture: Picture, step: Pad | Crop, inlet: Inlet) -> Picture:
    """The picture padded; for a crop, as far as it is smaller than that."""
    if step.margins is not None:
        top, bottom, left, right = step.margins
        before, after = {"H": top, "W": left}, {"H": bottom, "W": right}
        widths = writer.whole([side.get(letter, 0) for side in (before, after) for letter in "N" + picture.order])
    else:
        before, after = (dict(zip("HW", ends)) for ends in _pad_widths(writer, picture, step))
        none = writer.whole([0])
        widths = writer.op(
            "Concat", *(side.get(letter, none) for side in (before, after) for letter in "N" + picture.order), axis=0
        )
    value = writer.real(picture.value)
    if isinstance(step, Pad) and step.border != "colour":
        return picture.holding(writer.op("Pad", value, widths, mode="edge" if step.border == "repeat" else "reflect"))
    # The operator fills with one number: the colour is taken off and put back around it.
    shape = [-1 if letter == "C" else 1 for letter in "N" + picture.order]
    colour = writer.constant(fill_colour(step, inlet.decode).astype(np.float32).reshape(shape))
    return picture.holding(
        writer.op("Add", writer.op("Pad", writer.op("Sub", value, colour), widths, writer.number(0.0)), colour)
    )


def _pad_widths(writer: Writer, picture: Picture, step: Pad | Crop) -> tuple[list[str], list[str]]:
    """Begins and ends of height and width."""
    sides = writer.side(picture, "H"), writer.side(picture, "W")
    before, after = [], []
    for axis, side in enumerate(sides):
        if step.size is not None:
            wanted = writer.whole(step.size[axis])
        else:
            ratio, other = step.aspect[axis], step.aspect[1 - axis]
            grown = writer.op("Div", writer.op("Mul", sides[1 - axis], writer.whole(ratio)), writer.whole(other))
            wanted = writer.op("Max", side, grown)
        spare, centring = writer.op("Sub", wanted, side), step.centring
        if isinstance(step, Crop):
            spare = writer.op("Max", spare, writer.whole(0))
            centring = centring if centring in ("start", "end") else "down"
        start = _margin(writer, spare, centring)
        before.append(writer.at(start, 0))
        after.append(before[-1] if centring == "equal" else writer.at(writer.op("Sub", spare, start), 0))
    return before, after


def _valued(writer: Writer, picture: str, values: Values, channels: int, size: tuple[int, int]) -> str:
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
    if values.per_image in ("stretch", "stretch-channels", "by-maximum"):
        groups = channels if values.per_image == "stretch-channels" else 1
        count = channels // groups * size[0] * size[1]
        flat = writer.op("Reshape", picture, writer.whole([-1, groups, 1, count]))
        top, bottom = (writer.op("MaxPool", each, kernel_shape=[1, count]) for each in (flat, writer.op("Neg", flat)))
        if values.per_image == "by-maximum":
            safe = writer.op("Where", writer.op("Greater", top, writer.number(0.0)), top, writer.number(1.0))
            return writer.op("Div", picture, safe)
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
