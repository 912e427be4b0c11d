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
from zygal.inlet.front.resizing import resized
from zygal.inlet.front.writer import DOUBLE, FLOAT, INT64, UINT8, Writer
from zygal.inlet.specification import Blur, Crop, Inlet, Pad, Resize, Values


def front_of(inlet: Inlet, input_name: str, output_name: str) -> Graph:
    """The inlet after decoding, as operators. Raises InletError if every image keeps a size of its own.

    Rotation, transparency and 16-bit pixels are matters of files: they are done when the image is.
    """
    size = inlet.fixed_size()
    if size is None:
        raise InletError(
            "the inlet gives tensors as large as each image, so it cannot be put into the artifact; end its frame with a crop."
        )
    refused = unstated(inlet)
    if refused:
        raise InletError(f"{refused} cannot be put into the artifact; leave --raw-pixels out, and preprocess the images before it.")
    writer = Writer(input_name, TensorType(np.dtype(np.uint8), (Batch(), Open("H"), Open("W"), 3)))
    grey_last = inlet.decode.conversion == "grey-after-resize"
    last_resize = max((place for place, step in enumerate(inlet.frame) if isinstance(step, Resize)), default=-1)
    # Pixels stay 8-bit, and as they are stored, until something computes with them.
    picture = _turned(writer, input_name if grey_last else _coloured(writer, input_name, inlet), inlet)
    for place, step in enumerate(inlet.frame):
        if isinstance(step, Resize):
            picture = resized(writer, picture, step)
        elif isinstance(step, Blur):
            picture = _blurred(writer, picture, step, 3 if grey_last and place <= last_resize else min(3, inlet.channels))
        elif isinstance(step, Crop) and step.missing is None:
            picture = _cropped(writer, picture, step)
        elif isinstance(step, Crop):
            picture = _cropped(writer, _padded(writer, picture, step, inlet), step)
        else:
            picture = _padded(writer, picture, step, inlet)
        if grey_last and place == last_resize:
            picture = _coloured(writer, picture, inlet)
    if inlet.decode.colour == "bgr":
        picture = writer.op("Gather", picture, writer.whole([2, 1, 0]), axis=3)
    elif inlet.decode.colour == "grey" and inlet.channels == 3:
        picture = writer.op("Concat", picture, picture, picture, axis=3)
    # An image that is smaller than a crop is found out here, with both sizes in the message.
    picture = writer.op("Reshape", picture, writer.whole([-1, *size, inlet.channels]))
    picture = writer.op("Transpose", picture, perm=[0, 3, 1, 2])
    if inlet.tensor.dtype == "float32":
        picture = _valued(writer, writer.real(picture), inlet.values, inlet.channels, size)
    else:
        picture = writer.op("Clip", writer.op("Round", writer.real(picture)), writer.number(0.0), writer.number(255.0))
    if inlet.tensor.layout == "NHWC":
        picture = writer.op("Transpose", picture, perm=[0, 2, 3, 1])
    return writer.finished(picture, output_name, FLOAT if inlet.tensor.dtype == "float32" else UINT8)


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
                return f'{name} = {value if isinstance(value, float) else chr(34) + value + chr(34)}'
    return None


_UNSTATED = {
    Resize: {
        "filter": ("spline", "area-linear"), "edges": ("reflect", "zero"), "prefilter": ("gaussian",), "box": ("unreduced",),
        "long_side": ("closest-aspect",), "reduce_above": (),
    },
    Pad: {"border": ("symmetric",), "centring": ("unrounded",)},
    Blur: {"kind": ("three-boxes",)},
}  # fmt: skip


def _blurred(writer: Writer, picture: str, step: Blur, channels: int) -> str:
    weights = blur_taps(step)
    weights = fixed_taps(weights) if step.rounding == "fixed-8bit" else weights
    reach = step.taps // 2
    picture = writer.op("Transpose", writer.real(picture), perm=[0, 3, 1, 2])
    picture = writer.op("Pad", picture, writer.whole([0, 0, reach, reach, 0, 0, reach, reach]), mode="reflect")
    for shape in ((1, step.taps), (step.taps, 1)):
        kernel = np.tile(weights.astype(np.float32).reshape(1, 1, *shape), (channels, 1, 1, 1))
        picture = writer.op("Conv", picture, writer.constant(kernel), group=channels)
    picture = writer.op("Transpose", picture, perm=[0, 2, 3, 1])
    if step.rounding == "none":
        return picture
    return writer.rounded(picture, "up" if step.rounding == "fixed-8bit" else "even")


def _bright_border(writer: Writer, picture: str) -> str:
    """[N, 1, 1, 1]: whether the mean of the outermost rows and columns is above 127.5."""
    channels = writer.to(writer.side(picture, 3), FLOAT)
    height, width = (writer.to(writer.side(picture, axis), FLOAT) for axis in (1, 2))
    ends = ((writer.whole([0]), writer.whole([1])), (writer.whole([-1]), writer.whole([2**31])))
    edges = [writer.op("Slice", picture, *end, writer.whole([axis])) for axis in (1, 2) for end in ends]
    sums = [writer.op("ReduceSum", edge, writer.whole([1, 2, 3]), keepdims=1) for edge in edges]
    total = writer.op("Add", writer.op("Add", sums[0], sums[1]), writer.op("Add", sums[2], sums[3]))
    around = writer.op("Mul", writer.op("Mul", writer.op("Add", height, width), writer.number(2.0)), channels)
    return writer.op("Greater", writer.op("Div", total, around), writer.number(127.5))


def _coloured(writer: Writer, picture: str, inlet: Inlet) -> str:
    decode = inlet.decode
    if decode.colour == "grey":
        weights, rounding = np.array(decode.grey_weights), decode.grey_rounding
        if rounding.startswith("nearest"):
            bits = 16 if rounding == "nearest" else 15
            weights = whole_weights(decode.grey_weights, bits) / 2**bits
            picture = writer.rounded(writer.real(picture), "even")
        elif rounding == "down-15bit":
            weights = whole_weights(decode.grey_weights, 15, np.floor) / 2**15
        columns = writer.constant(weights.astype(np.float32).reshape(1, 1, 1, 3))
        picture = writer.op("ReduceSum", writer.op("Mul", writer.real(picture), columns), writer.whole([3]), keepdims=1)
        if rounding == "stretched":
            picture = writer.op("Mul", picture, writer.number(255.5 / 255))
        if rounding != "none":
            picture = writer.rounded(picture, "up" if rounding.startswith("nearest") else "down")
    return picture


def _turned(writer: Writer, picture: str, inlet: Inlet) -> str:
    """Light and dark exchanged, and mirrored."""
    decode = inlet.decode
    if decode.polarity != "as-is":
        picture = writer.real(picture)
        inverted = writer.op("Sub", writer.number(255.0), picture)
        bright = decode.polarity == "dark-ground"
        picture = writer.op("Where", _bright_border(writer, picture), inverted, picture) if bright else inverted
    for axis, direction in ((1, "vertical"), (2, "horizontal")):
        if decode.mirror in (direction, "both"):
            ends = writer.whole([-1]), writer.whole([-(2**31)]), writer.whole([axis]), writer.whole([-1])
            picture = writer.op("Slice", picture, *ends)
    return picture


def _cropped(writer: Writer, picture: str, step: Crop) -> str:
    starts, ends = [], []
    if step.margins is not None:
        top, bottom, left, right = step.margins
        ends = [writer.at(writer.op("Sub", writer.side(picture, axis), writer.whole(by)), 0) for axis, by in ((1, bottom), (2, right))]
        return writer.op("Slice", picture, writer.whole([top, left]), writer.op("Concat", *ends, axis=0), writer.whole([1, 2]))
    sides = writer.side(picture, 1), writer.side(picture, 2)
    for axis, side in enumerate(sides):
        length = _cropped_side(writer, sides, axis, step)
        spare = writer.op("Sub", side, length)
        start = _margin(writer, spare, step.centring)
        if step.centring == "equal":
            length = writer.op("Sub", side, writer.op("Mul", writer.whole(2), start))
        starts.append(writer.at(start, 0))
        ends.append(writer.at(writer.op("Add", start, length), 0))
    bounds = writer.op("Concat", *starts, axis=0), writer.op("Concat", *ends, axis=0)
    return writer.op("Slice", picture, *bounds, writer.whole([1, 2]))


def _cropped_side(writer: Writer, sides: tuple[str, str], axis: int, step: Crop) -> str:
    side, one = sides[axis], writer.whole(1)
    if step.size is not None:
        return writer.whole(step.size[axis])
    if step.aspect is not None and step.fraction is not None:
        by = [writer.op("Div", writer.to(each, DOUBLE), writer.exact(float(part))) for each, part in zip(sides, step.aspect)]
        length = writer.op("Mul", writer.op("Mul", writer.op("Min", *by), writer.exact(step.fraction)), writer.exact(float(step.aspect[axis])))
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


def _padded(writer: Writer, picture: str, step: Pad | Crop, inlet: Inlet) -> str:
    """The picture padded; for a crop, as far as it is smaller than that."""
    if step.margins is not None:
        top, bottom, left, right = step.margins
        widths = writer.whole([0, top, left, 0, 0, bottom, right, 0])
    else:
        widths = writer.op("Concat", *_pad_widths(writer, picture, step), axis=0)
    if isinstance(step, Pad) and step.border != "colour":
        return writer.op("Pad", writer.real(picture), widths, mode="edge" if step.border == "repeat" else "reflect")
    # The operator fills with one number: the colour is taken off and put back around it.
    colour = writer.constant(fill_colour(step, inlet.decode).astype(np.float32).reshape(1, 1, 1, -1))
    return writer.op("Add", writer.op("Pad", writer.op("Sub", writer.real(picture), colour), widths, writer.number(0.0)), colour)


def _pad_widths(writer: Writer, picture: str, step: Pad | Crop) -> list[str]:
    sides = writer.side(picture, 1), writer.side(picture, 2)
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
    none = writer.whole([0])
    return [none, *before, none, none, *after, none]


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
