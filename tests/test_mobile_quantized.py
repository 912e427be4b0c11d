"""Flatbuffers in few bits: the mobile runtime is the judge, in steps of the stored numbers."""

import numpy as np
import onnx
import pytest
from mobile import Flatbuffer, on_the_runtime, scaled

from zygal.artifact.formats import read_artifact
from zygal.conversion.convert import Choices, convert
from zygal.engines.artifact import RuntimeEngine
from zygal.engines.live import open_live_engine
from zygal.engines.session import SessionSettings, open_session
from zygal.graph.passes import run_passes
from zygal.graph.reference import run_graph
from zygal.machine.processor import multiplication
from zygal.mobile.read import read_model
from zygal.sources import Reading, read_source
from zygal.sources.onnx.translate import artifact_graph

RNG = np.random.default_rng(3)
IN, OUT = 0.05, 0.04


def whole(low, high, *shape, dtype="int8"):
    return np.random.default_rng(sum(shape)).integers(low, high, shape).astype(dtype)


def zero(dtype):
    return {"int8": 3, "uint8": 121}[dtype]


def scales(count):
    return np.float32(0.004 + 0.003 * np.random.default_rng(count).random(count))


def on_this_machine(artifact, x):
    """The artifact's results by its runtime; where this processor adds pairs of 8-bit products in 16 bits, the
    runtime's sums saturate and the reference engine computes what the artifact says."""
    if multiplication().pairs_saturate:
        graph = artifact_graph(artifact)
        return run_graph(graph, {graph.inputs[0]: x})[graph.outputs[0]]
    return RuntimeEngine(artifact, 1).run(x)


class Stored:
    """A model between a stored input and a stored output."""

    def __init__(self, dtype="int8", shape=(2, 8, 9, 4)):
        self.made, self.dtype = Flatbuffer(), dtype
        self.given = scaled(IN, zero(dtype))
        self.image = self.made.input(shape, dtype, self.given)

    def add(self, name, inputs, shape, quantization=None, **options):
        return self.made.add(
            name, inputs, shape, self.dtype, quantization or scaled(OUT, zero(self.dtype) - 10), **options
        )

    def weight(self, array, per_axis=None, axis=0):
        """Signed weights around zero, or unsigned ones with a zero point, as old files have them."""
        if self.dtype == "uint8":
            return self.made.constant((array.astype(np.int16) + 120).astype(np.uint8), scaled(0.005, 120))
        return self.made.constant(array, scaled(per_axis if per_axis is not None else 0.005, 0, axis))

    def bias(self, count, per_axis=None, given=IN):
        array = np.random.default_rng(count).integers(-2000, 2000, count).astype(np.int32)
        return self.made.constant(
            array, scaled(np.float32(given) * np.float32(per_axis if per_axis is not None else 0.005))
        )

    def judged(self, tmp_path, output):
        """Stored results of the runtime, and real ones of the graph divided by the step; also through the artifact."""
        path = self.made.write(tmp_path / "m.tflite", output)
        tensors = self.made.model.tensors
        x = whole(*((-128, 128) if self.dtype == "int8" else (0, 256)), *tensors[0].shape, dtype=self.dtype)
        wanted, quantization = on_the_runtime(path, x, kernels="all"), tensors[output].quantization
        real = (
            x
            if self.dtype == "uint8"
            else (x.astype(np.float32) - np.float32(self.given.zero_points[0])) * self.given.scales[0]
        )
        with read_source(path) as source:
            graph = source.graph
            found = run_graph(graph, {graph.inputs[0]: real})[graph.outputs[0]]
        convert(path, tmp_path / "m.onnx", choices=Choices(any_shape=True, keep_batch=True))
        again = on_this_machine(tmp_path / "m.onnx", real)
        steps = [each / quantization.scales[0] + quantization.zero_points[0] for each in (found, again)]
        assert all(np.abs(each - np.rint(each)).max() < 1e-2 for each in steps)
        return wanted.astype(int), [np.rint(each).astype(int) for each in steps]


def check(stored, tmp_path, output, exact=0.95):
    """The faster kernels round as the graph does; the plain ones round twice."""
    wanted, both = stored.judged(tmp_path, output)
    assert len(np.unique(wanted)) > 5
    for found in both:
        assert np.abs(found - wanted).max() <= 1 and (found == wanted).mean() >= exact


@pytest.mark.parametrize("dtype, per_axis", [("int8", True), ("int8", False), ("uint8", False)])
@pytest.mark.parametrize("padding, stride, activation", [(0, 1, 0), (1, 2, 1), (0, 2, 3)])
@pytest.mark.parametrize("depthwise", [False, True])
def test_convolutions(dtype, per_axis, padding, stride, activation, depthwise, tmp_path):
    stored, outputs = Stored(dtype), 4 if depthwise else 6
    each = scales(outputs) if per_axis else None
    kernel = whole(-60, 60, *((1, 3, 3, 4) if depthwise else (6, 3, 3, 4)))
    sizes = [-(-n // stride) if padding == 0 else (n - 3) // stride + 1 for n in (8, 9)]
    options = {
        "padding": padding,
        "stride_h": stride,
        "stride_w": stride,
        "activation": activation,
        **({"depth_multiplier": 1} if depthwise else {}),
    }
    made = stored.add(
        "DEPTHWISE_CONV_2D" if depthwise else "CONV_2D",
        [stored.image, stored.weight(kernel, each, 3 if depthwise else 0), stored.bias(outputs, each)],
        (2, *sizes, outputs),
        scaled(0.08, zero(dtype)),
        version=3,
        **options,
    )
    check(stored, tmp_path, made)


@pytest.mark.parametrize("depthwise", [False, True])
def test_channels_without_weights_have_no_scale(depthwise, tmp_path):
    """Some writers give a channel of zeros the scale 0; its bias then counts for nothing on the runtime either."""
    stored, outputs = Stored(), 4 if depthwise else 6
    kernel, each = whole(-60, 60, *((1, 3, 3, 4) if depthwise else (6, 3, 3, 4))), scales(outputs)
    each[[1, 3]] = 0
    kernel[(..., [1, 3]) if depthwise else [1, 3]] = 0
    options = {"stride_h": 1, "stride_w": 1, **({"depth_multiplier": 1} if depthwise else {})}
    made = stored.add(
        "DEPTHWISE_CONV_2D" if depthwise else "CONV_2D",
        [stored.image, stored.weight(kernel, each, 3 if depthwise else 0), stored.bias(outputs, each)],
        (2, 8, 9, outputs),
        scaled(0.08, zero("int8")),
        version=3,
        **options,
    )
    check(stored, tmp_path, made)
    convert(tmp_path / "m.tflite", tmp_path / "again.tflite", choices=Choices(any_shape=True, keep_batch=True))
    x = RNG.standard_normal((2, 8, 9, 4), np.float32)
    one, other = (RuntimeEngine(tmp_path / name, 1).run(x) for name in ("m.onnx", "again.tflite"))
    assert np.abs(one - other).max() < 1.01 * 0.08 and (np.abs(one - other) < 1e-6).mean() >= 0.95


@pytest.mark.parametrize("dtype", ["int8", "uint8"])
def test_a_network_from_end_to_end(dtype, tmp_path):
    """A convolution, a residual block, pooling and a dense layer, all in stored numbers."""
    stored = Stored(dtype)
    first = stored.add(
        "CONV_2D",
        [
            stored.image,
            stored.weight(whole(-60, 60, 8, 3, 3, 4), scales(8) if dtype == "int8" else None),
            stored.bias(8, scales(8) if dtype == "int8" else None),
        ],
        (2, 8, 9, 8),
        scaled(0.06, zero(dtype)),
        version=3,
        stride_h=1,
        stride_w=1,
        activation=1,
    )
    second = stored.add(
        "CONV_2D",
        [first, stored.weight(whole(-60, 60, 8, 1, 1, 8)), stored.bias(8, None, 0.06)],
        (2, 8, 9, 8),
        scaled(0.05, zero(dtype)),
        version=3,
        stride_h=1,
        stride_w=1,
    )
    added = stored.add("ADD", [first, second], (2, 8, 9, 8), scaled(0.07, zero(dtype)), version=2, activation=1)
    pooled = stored.add(
        "MAX_POOL_2D",
        [added],
        (2, 4, 4, 8),
        scaled(0.07, zero(dtype)),
        version=2,
        padding=1,
        stride_h=2,
        stride_w=2,
        filter_h=2,
        filter_w=2,
    )
    flat = stored.add("MEAN", [pooled, np.array([1, 2], np.int32)], (2, 8), scaled(0.05, zero(dtype)), version=2)
    scores = stored.add(
        "FULLY_CONNECTED",
        [flat, stored.weight(whole(-100, 100, 10, 8)), stored.bias(10, None, 0.05)],
        (2, 10),
        scaled(0.05, zero(dtype)),
        version=4,
    )
    check(stored, tmp_path, scores, 0.85)


UNARY = {
    "LOGISTIC": scaled(1 / 256, -128),
    "TANH": scaled(1 / 128, 0),
    "HARD_SWISH": scaled(0.05, -100),
    "RELU": scaled(0.05, -128),
    "LEAKY_RELU": scaled(0.05, -20),
    "RELU6": scaled(6 / 255, -128),
    "SOFTMAX": scaled(1 / 256, -128),
    "QUANTIZE": scaled(0.07, 20),
    "ABS": scaled(0.03, -128),
}


@pytest.mark.parametrize("name", UNARY)
def test_element_by_element(name, tmp_path):
    stored = Stored()
    options = {"LEAKY_RELU": {"alpha": 0.25}, "SOFTMAX": {"beta": 1.0}}.get(name, {})
    check(
        stored,
        tmp_path,
        stored.add(
            name, [stored.image], (2, 8, 9, 4), UNARY[name], version=1 if name == "HARD_SWISH" else 2, **options
        ),
        0.9,
    )


@pytest.mark.parametrize("name", ["ADD", "MUL", "SUB"])
def test_pairs(name, tmp_path):
    stored = Stored()
    other = stored.add("QUANTIZE", [stored.image], (2, 8, 9, 4), scaled(0.07, 20), version=2)
    turned = stored.add(
        "TRANSPOSE", [other, np.array([0, 1, 2, 3], np.int32)], (2, 8, 9, 4), scaled(0.07, 20), version=2
    )
    squared = stored.add("MUL", [turned, turned], (2, 8, 9, 4), scaled(0.3, -100), version=2, activation=0)
    check(
        stored,
        tmp_path,
        stored.add(name, [stored.image, squared], (2, 8, 9, 4), scaled(0.4, 5), version=2, activation=0),
        0.9,
    )


def test_rearrangements_keep_the_stored_numbers(tmp_path):
    """Padding is by the zero point, and pooling, joining and reshaping change no number."""
    stored, same = Stored(), scaled(IN, zero("int8"))
    padded = stored.add(
        "PAD", [stored.image, np.array([[0, 0], [1, 1], [1, 0], [0, 0]], np.int32)], (2, 10, 10, 4), same, version=2
    )
    pooled = stored.add(
        "MAX_POOL_2D",
        [padded],
        (2, 5, 5, 4),
        same,
        version=2,
        padding=1,
        stride_h=2,
        stride_w=2,
        filter_h=2,
        filter_w=2,
    )
    joined = stored.add("CONCATENATION", [pooled, pooled], (2, 5, 5, 8), same, version=2, axis=3)
    turned = stored.add("TRANSPOSE", [joined, np.array([0, 2, 1, 3], np.int32)], (2, 5, 5, 8), same, version=2)
    flat = stored.add("RESHAPE", [turned, np.array([2, 200], np.int32)], (2, 200), same)
    check(stored, tmp_path, flat, 1.0)


def eight_bit_classifier(path, dtype="int8", open_batch=False):
    made = Flatbuffer()
    image = made.input((1, 12, 12, 3), dtype, scaled(1 / 127.5, 127 if dtype == "uint8" else 0), open_batch)
    kernel = made.constant(whole(-100, 100, 16, 3, 3, 3), scaled(scales(16)), "conv/kernel")
    out = made.add(
        "CONV_2D",
        [image, kernel, made.constant(whole(-900, 900, 16, dtype="int32"), scaled(scales(16) / np.float32(127.5)))],
        (1, 6, 6, 16),
        dtype,
        scaled(0.02, -128 if dtype == "int8" else 0),
        3,
        open_batch,
        stride_h=2,
        stride_w=2,
        activation=1,
    )
    flat = made.add(
        "MEAN",
        [out, np.array([1, 2], np.int32)],
        (1, 16),
        dtype,
        scaled(0.0137, -128 if dtype == "int8" else 0),
        2,
        open_batch,
    )
    scores = made.add(
        "FULLY_CONNECTED",
        [
            flat,
            made.constant(whole(-100, 100, 10, 16), scaled(0.02)),
            made.constant(np.zeros(10, np.int32), scaled(0.0137 * 0.02)),
        ],
        (1, 10),
        dtype,
        scaled(0.053, zero(dtype)),
        4,
        open_batch,
    )
    return made.write(path, scores)


def test_the_artifact_stays_in_eight_bits_is_freed_and_can_be_widened(tmp_path):
    path = eight_bit_classifier(tmp_path / "m.tflite")
    done = convert(path, tmp_path / "m.onnx")
    assert (
        done.operators["QuantizeLinear"] >= 4
        and any("fixed batch of 1" in note for note in done.notes)
        and any("int8" in note for note in done.notes)
    )
    wide = convert(path, tmp_path / "w.onnx", choices=Choices(widen=True))
    assert "QuantizeLinear" not in wide.operators and "DequantizeLinear" not in wide.operators
    x = np.clip(np.random.default_rng(0).standard_normal((500, 12, 12, 3), np.float32) / 2, -1, 0.99)
    stored = np.clip(np.rint(x / np.float32(1 / 127.5)), -128, 127).astype(np.int8)
    wanted = np.concatenate(on_the_runtime(path, *(stored[at : at + 1] for at in range(500)), kernels="all"))
    for name, equal, near in (("m", 0.995, 0.99), ("w", 0.9, 0.8)):
        found = on_this_machine(tmp_path / f"{name}.onnx", x) / np.float32(0.053) + zero("int8")
        best = np.take_along_axis(found, wanted.argmax(1)[:, None], 1)[:, 0]
        assert (best >= found.max(1) - 1e-3 if name == "m" else best >= found.max(1) - 1).mean() >= equal
        assert (np.abs(found - wanted) <= 1.01).mean() >= near


def test_weights_alone_in_eight_bits_or_half(tmp_path):
    for dtype in ("int8", "float16"):
        made = Flatbuffer()
        image, weight = made.input((2, 6, 6, 3)), whole(-100, 100, 5, 3, 3, 3)
        if dtype == "int8":
            kernel = made.constant(weight, scaled(scales(5)))
        else:
            kernel = made.add("DEQUANTIZE", [(weight / 50).astype(np.float16)], weight.shape, version=3)
        out = made.add(
            "CONV_2D",
            [image, kernel, made.constant(np.zeros(5, np.float32))],
            (2, 6, 6, 5),
            version=5,
            stride_h=1,
            stride_w=1,
        )
        path = made.write(tmp_path / f"{dtype}.tflite", out)
        x = np.random.default_rng(1).standard_normal((2, 6, 6, 3), np.float32)
        with read_source(path) as source:
            graph = source.graph
            found = run_graph(graph, {graph.inputs[0]: x})[graph.outputs[0]]
            assert ("DequantizeLinear" in {node.operator for node in graph.nodes}) == (dtype == "int8")
            assert any("8-bit weights" in note for note in source.notes) == (dtype == "int8")
        wanted = on_the_runtime(path, x)
        assert np.abs(found - wanted).max() <= (0.02 if dtype == "int8" else 1e-5) * np.ptp(wanted)


def test_sixteen_bits_are_refused_and_can_be_widened(tmp_path):
    made = Flatbuffer()
    image = made.input((2, 6), "int16", scaled(1 / 4096))
    path = made.write(
        tmp_path / "m.tflite",
        made.add(
            "FULLY_CONNECTED",
            [image, made.constant(whole(-100, 100, 5, 6), scaled(0.01)), -1],
            (2, 5),
            "int16",
            scaled(1 / 2048),
            4,
        ),
    )
    with pytest.raises(Exception, match="stored as int16 with a scale.*--widen"), read_source(path):
        pass
    x = np.random.default_rng(1).standard_normal((2, 6), np.float32)
    stored = np.clip(np.rint(x * 4096), -32768, 32767).astype(np.int16)
    with read_source(path, reading=Reading(widen=True)) as source:
        found = run_graph(source.graph, {source.graph.inputs[0]: x})[source.graph.outputs[0]]
    assert np.abs(found - on_the_runtime(path, stored) / np.float32(2048)).max() < 0.002


def test_written_again_it_computes_with_stored_numbers_and_gives_the_same(tmp_path):
    path = eight_bit_classifier(tmp_path / "m.tflite")
    convert(path, tmp_path / "again.tflite")
    again = read_model(tmp_path / "again.tflite")
    assert [each.name for each in again.operators] == [
        "QUANTIZE",
        "CONV_2D",
        "MEAN",
        "RESHAPE",
        "FULLY_CONNECTED",
        "DEQUANTIZE",
    ]
    assert (tmp_path / "again.tflite").stat().st_size < 3 * path.stat().st_size
    x = np.clip(np.random.default_rng(0).standard_normal((50, 12, 12, 3), np.float32) / 2, -1, 0.99)
    one, every = RuntimeEngine(path, 1), RuntimeEngine(tmp_path / "again.tflite", 1)
    assert (one.batch_size, every.batch_size) == (1, None)
    assert np.array_equal(every.run(x), np.concatenate([one.run(x[at : at + 1]) for at in range(50)]))
    convert(path, tmp_path / "wide.tflite", choices=Choices(widen=True))
    assert "QUANTIZE" not in {each.name for each in read_model(tmp_path / "wide.tflite").operators}


def test_a_border_of_stored_zeros_becomes_the_pads_of_the_convolution(tmp_path):
    stored = Stored()
    image = stored.add(
        "CONV_2D",
        [stored.image, stored.weight(whole(-60, 60, 4, 1, 1, 4)), stored.bias(4)],
        (2, 8, 9, 4),
        scaled(IN, 7),
        version=3,
        stride_h=1,
        stride_w=1,
    )
    bordered = stored.add(
        "PAD", [image, np.array([[0, 0], [1, 1], [1, 1], [0, 0]], np.int32)], (2, 10, 11, 4), scaled(IN, 7), version=2
    )
    made = stored.add(
        "CONV_2D",
        [bordered, stored.weight(whole(-60, 60, 6, 3, 3, 4)), stored.bias(6)],
        (2, 8, 9, 6),
        scaled(0.08, 3),
        version=3,
        padding=1,
        stride_h=1,
        stride_w=1,
    )
    check(stored, tmp_path, made)
    with read_source(tmp_path / "m.tflite") as source:
        graph = run_passes(source.graph)
    operators = [node.operator for node in graph.nodes]
    assert "Pad" not in operators and [node for node in graph.nodes if node.operator == "Conv"][1].attributes[
        "pads"
    ] == [1, 1, 1, 1]
    # The image, the image with its channels first, and both results.
    assert operators.count("QuantizeLinear") == 4 and operators.count("DequantizeLinear") == 8


def test_the_runtime_computes_with_what_is_stored(tmp_path):
    """It looks for a reader of stored numbers directly before each operator, and a writer directly behind."""
    convert(eight_bit_classifier(tmp_path / "m.tflite"), tmp_path / "m.onnx")
    open_session(tmp_path / "m.onnx", SessionSettings(1, rewritten=str(tmp_path / "rewritten.onnx")))
    run = [node.op_type for node in onnx.load(tmp_path / "rewritten.onnx").graph.node]
    assert {"QLinearConv", "QGemm"} <= set(run) and not {"Conv", "FusedConv", "Gemm", "Relu"} & set(run)


@pytest.mark.parametrize("inner", ["uint8", "int8"])
def test_classifiers_as_they_lie_about(inner, tmp_path):
    """Unsigned pixels in, unsigned scores out: stored alike throughout, as old files have it, or signed in between."""
    made, low = Flatbuffer(), 0 if inner == "uint8" else -128
    shift = 0 if inner == "uint8" else 128
    x = made.input((1, 16, 16, 3), "uint8", scaled(1 / 128, 128))
    if inner == "int8":
        x = made.add("QUANTIZE", [x], (1, 16, 16, 3), inner, scaled(1 / 128, 0))

    def conv(x, size, outputs, depthwise=False, stride=2, given=1 / 128, scale=6 / 255, channels=3):
        shape = (1, 3, 3, outputs) if depthwise else (outputs, 3, 3, channels)
        weight = whole(-60, 60, *shape)
        kernel = (
            made.constant(weight, scaled(scales(outputs) / 2, 0, 3 if depthwise else 0))
            if inner == "int8"
            else made.constant((weight.astype(np.int16) + 110).astype(np.uint8), scaled(0.0025, 110))
        )
        steps = np.float32(given) * (scales(outputs) / 2 if inner == "int8" else np.float32(0.0025))
        options = {
            "stride_h": stride,
            "stride_w": stride,
            "activation": 3,
            **({"depth_multiplier": 1} if depthwise else {}),
        }
        return made.add(
            "DEPTHWISE_CONV_2D" if depthwise else "CONV_2D",
            [x, kernel, made.constant(whole(-900, 900, outputs, dtype="int32"), scaled(steps))],
            (1, size, size, outputs),
            inner,
            scaled(scale, low),
            3,
            **options,
        )

    x = conv(x, 8, 16)
    x = conv(x, 4, 16, True, given=6 / 255)
    x = made.add(
        "AVERAGE_POOL_2D",
        [x],
        (1, 1, 1, 16),
        inner,
        scaled(6 / 255, low),
        2,
        padding=1,
        stride_h=2,
        stride_w=2,
        filter_h=4,
        filter_w=4,
    )
    weight = whole(-100, 100, 12, 1, 1, 16)
    kernel = (
        made.constant(weight, scaled(0.02))
        if inner == "int8"
        else made.constant((weight.astype(np.int16) + 120).astype(np.uint8), scaled(0.02, 120))
    )
    x = made.add(
        "CONV_2D",
        [x, kernel, made.constant(np.zeros(12, np.int32), scaled(np.float32(6 / 255) * np.float32(0.02)))],
        (1, 1, 1, 12),
        inner,
        scaled(0.1, 128 - shift),
        3,
        stride_h=1,
        stride_w=1,
    )
    x = made.add("RESHAPE", [x], (1, 12), inner, scaled(0.1, 128 - shift), new_shape=[1, 12])
    x = made.add("SOFTMAX", [x], (1, 12), inner, scaled(1 / 256, low), 2, beta=1.0)
    if inner == "int8":
        x = made.add("QUANTIZE", [x], (1, 12), "uint8", scaled(1 / 256, 0))
    path = made.write(tmp_path / "m.tflite", x, signature=False)
    done = convert(path, tmp_path / "m.onnx")
    assert (
        str(done.input_type) == "uint8 [N, 16, 16, 3]" and read_artifact(tmp_path / "m.onnx").scores == "probabilities"
    )
    pixels = np.random.default_rng(0).integers(0, 256, (300, 1, 1, 3)).astype(np.int16) + np.random.default_rng(
        1
    ).integers(-60, 60, (300, 16, 16, 3))
    pixels = np.clip(pixels, 0, 255).astype(np.uint8)
    wanted = np.concatenate(on_the_runtime(path, *(pixels[at : at + 1] for at in range(300)), kernels="all")).astype(
        int
    )
    found = np.rint(RuntimeEngine(tmp_path / "m.onnx", 1).run(pixels) * 256).astype(int)
    best = np.take_along_axis(wanted, found.argmax(1)[:, None], 1)[:, 0]
    assert (best == wanted.max(1)).mean() >= 0.995 and (np.abs(found - wanted) <= 1).mean() >= 0.95
    live = open_live_engine(path)
    assert live.batch_size == 1 and np.abs(np.rint(live.run(pixels[:1]) * 256) - wanted[:1]).max() == 0


@pytest.mark.parametrize("dtype", ["int8", "uint8"])
@pytest.mark.parametrize("kernel, padding", [(2, 1), (2, 0), (3, 0), (4, 1)])
def test_means_of_stored_numbers(dtype, kernel, padding, tmp_path):
    """Where a window has an even number of places, half of the rounding is of halves."""
    stored = Stored(dtype, (2, 8, 12, 16))
    sizes = (-(-8 // kernel), -(-12 // kernel)) if padding == 0 else (8 // kernel, 12 // kernel)
    made = stored.add(
        "AVERAGE_POOL_2D",
        [stored.image],
        (2, *sizes, 16),
        scaled(IN, zero(dtype)),
        version=2,
        padding=padding,
        stride_h=kernel,
        stride_w=kernel,
        filter_h=kernel,
        filter_w=kernel,
    )
    check(stored, tmp_path, made, 0.999)


def test_real_numbers_at_both_ends(tmp_path):
    """As converters write it where nothing else is asked for: stored at once, and real numbers again at the end."""
    made = Flatbuffer()
    stored = made.add(
        "QUANTIZE",
        [made.input((1, 12, 12, 3), open_batch=True)],
        (1, 12, 12, 3),
        "int8",
        scaled(1 / 127.5, 0),
        open_batch=True,
    )
    kernel = made.constant(whole(-100, 100, 8, 3, 3, 3), scaled(scales(8)))
    x = made.add(
        "CONV_2D",
        [stored, kernel, made.constant(whole(-900, 900, 8, dtype="int32"), scaled(scales(8) / np.float32(127.5)))],
        (1, 12, 12, 8),
        "int8",
        scaled(0.03, -128),
        3,
        True,
        stride_h=1,
        stride_w=1,
        activation=1,
    )
    x = made.add("RESHAPE", [x, np.array([-1, 1152], np.int32)], (1, 1152), "int8", scaled(0.03, -128), open_batch=True)
    x = made.add(
        "FULLY_CONNECTED",
        [x, made.constant(whole(-100, 100, 6, 1152), scaled(0.002)), -1],
        (1, 6),
        "int8",
        scaled(0.2, 1),
        4,
        True,
    )
    path = made.write(tmp_path / "m.tflite", made.add("DEQUANTIZE", [x], (1, 6), version=2, open_batch=True))
    done = convert(path, tmp_path / "m.onnx")
    assert (str(done.input_type), str(done.output_type), done.notes) == ("float32 [N, 12, 12, 3]", "float32 [N, 6]", ())
    images = np.random.default_rng(0).standard_normal((64, 12, 12, 3), np.float32) / 3
    wanted = on_the_runtime(path, images, kernels="all")
    found = on_this_machine(tmp_path / "m.onnx", images)
    assert np.abs(found - wanted).max() <= 0.2001 and (np.abs(found - wanted) < 1e-5).mean() >= 0.99
    open_session(tmp_path / "m.onnx", SessionSettings(1, rewritten=str(tmp_path / "rewritten.onnx")))
    assert {"QLinearConv", "QGemm"} <= {node.op_type for node in onnx.load(tmp_path / "rewritten.onnx").graph.node}


def test_sixteen_bits_beside_eight_with_wide_biases(tmp_path):
    made, steps = Flatbuffer(), scales(4)
    image = made.input((1, 6, 6, 3), "int16", scaled(1 / 4096))
    bias = made.constant(whole(-90_000, 90_000, 4, dtype="int64"), scaled(steps / np.float32(4096)))
    made_of = made.add(
        "CONV_2D",
        [image, made.constant(whole(-100, 100, 4, 3, 3, 3), scaled(steps)), bias],
        (1, 6, 6, 4),
        "int16",
        scaled(1 / 1024),
        4,
        stride_h=1,
        stride_w=1,
    )
    path = made.write(tmp_path / "m.tflite", made_of)
    x = np.random.default_rng(1).standard_normal((1, 6, 6, 3), np.float32)
    with read_source(path, reading=Reading(widen=True)) as source:
        found = run_graph(source.graph, {source.graph.inputs[0]: x})[source.graph.outputs[0]]
    stored = np.clip(np.rint(x * 4096), -32768, 32767).astype(np.int16)
    assert np.abs(found - on_the_runtime(path, stored) / np.float32(1024)).max() < 0.003
