"""Writing mobile flatbuffers: graphs against their NumPy meaning on the mobile runtime, and what is inside the
files."""

import zipfile

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from mobile import on_the_runtime

from zygal.artifact.formats import Writing, read_artifact, write_artifact
from zygal.artifact.mobile.spelling import SPELLINGS
from zygal.classifier.labels import read_labels
from zygal.classifier.metadata import Metadata
from zygal.cli.main import main
from zygal.conversion.convert import Choices, convert
from zygal.engines.artifact import RuntimeEngine
from zygal.errors import ArtifactError
from zygal.graph import Batch, GraphBuilder, TensorType
from zygal.graph.ops import known_operators
from zygal.graph.passes import run_passes
from zygal.graph.reference import run_graph
from zygal.inlet import read_inlet
from zygal.mobile.meaning import read_meaning
from zygal.mobile.read import read_model
from zygal.mobile.write import write_model

FLOAT, I64 = np.dtype(np.float32), np.int64
UNWRITTEN = {
    "GRU",
    "LSTM",
    "RNN",
    "GatherElements",
    "GridSample",
    "ScatterElements",
    "Acos",
    "Acosh",
    "Asin",
    "Asinh",
    "Atan",
    "Atanh",
    "Cosh",
    "Sinh",
    "If",
    "Range",
    "MeasuredExpand",
    "MeasuredPad",
    "MeasuredReshape",
    "MeasuredSlice",
    "Attention",
}
"""What the format has no operators for, and no classifier of the collections needs; and what images of any size
need."""


def numbers(*shape, seed=0):
    return np.random.default_rng([seed, *shape]).standard_normal(shape, np.float32)


class Net:
    """A graph under construction."""

    def __init__(self, shape=(Batch(), 6, 8, 10)):
        self.builder = GraphBuilder()
        self.image = self.builder.input("image", TensorType(FLOAT, shape))

    def add(self, operator, *inputs, **attributes):
        names = [
            self.builder.constant("c", np.asarray(each)) if isinstance(each, (np.ndarray, np.generic)) else each
            for each in inputs
        ]
        return self.builder.add(operator, names, self.builder.free_name(operator.lower()), "layer", **attributes)

    def conv(self, x, outputs=6, kernel=3, **more):
        channels = self.builder.types[x].shape[1] // more.get("group", 1)
        settings = {
            "strides": [1, 1],
            "pads": [kernel // 2] * 4,
            "kernel_shape": [kernel] * 2,
            "dilations": [1, 1],
            "group": 1,
        } | more
        return self.add("Conv", x, numbers(outputs, channels, kernel, kernel) / 4, numbers(outputs), **settings)

    def judged(self, tmp_path, output, within=2e-6, batches=(1, 3)):
        """On both kinds of kernels, at several batches. Gives the model that was written."""
        graph = self.builder.finish([output])
        write_artifact(graph, tmp_path / "m.tflite", Metadata())
        model = read_model(tmp_path / "m.tflite")
        shape = graph.types["image"].shape
        batches = batches if isinstance(shape[0], Batch) and 0 in model.tensors[model.inputs[0]].open_axes else (1,)
        for batch in batches:
            x = numbers(batch, *shape[1:], seed=batch)
            wanted = run_graph(graph, {"image": x})[output]
            for kernels in ("off", "all"):
                found = on_the_runtime(tmp_path / "m.tflite", x, kernels=kernels)
                assert found.shape == wanted.shape and np.abs(found - wanted).max() <= within * max(
                    np.abs(wanted).max(), 1
                )
        return model


def names(model):
    return [each.name for each in model.operators]


def test_every_operator_is_spelt_or_known_not_to_be():
    assert set(known_operators()) - set(SPELLINGS) == UNWRITTEN


ELEMENTWISE = (
    "Relu",
    "Tanh",
    "Sigmoid",
    "HardSwish",
    "Exp",
    "Abs",
    "Neg",
    "Ceil",
    "Floor",
    "Round",
    "Sign",
    "Sin",
    "Cos",
    "Erf",
    "Softsign",
    "Softplus",
    "Selu",
    "Gelu",
    "Tan",
    "Identity",
)
CASES = {
    "leaky": lambda n, x: n.add("LeakyRelu", x, alpha=0.2),
    "elu": lambda n, x: n.add("Elu", x, alpha=0.7),
    "hard sigmoid": lambda n, x: n.add("HardSigmoid", x, alpha=1 / 6, beta=0.5),
    "hard sigmoid of another slope": lambda n, x: n.add("HardSigmoid", x, alpha=0.2, beta=0.4),
    "clip": lambda n, x: n.add("Clip", x, min=-0.3, max=0.8),
    "six": lambda n, x: n.add("Clip", x, min=0, max=6),
    "slopes": lambda n, x: n.add("PRelu", x, numbers(6, 1, 1)),
    "gate": lambda n, x: n.add("Mul", x, n.add("Sigmoid", n.add("GlobalAveragePool", x))),
    "addend of a channel": lambda n, x: n.add("Sub", numbers(6, 1, 1), x),
    "power": lambda n, x: n.add("Pow", n.add("Abs", x), np.float32(1.5)),
    "root": lambda n, x: n.add("Reciprocal", n.add("Sqrt", n.add("Add", n.add("Mul", x, x), np.float32(1)))),
    "logarithm": lambda n, x: n.add("Log", n.add("Add", n.add("Mul", x, x), np.float32(1))),
    "largest of both": lambda n, x: n.add("Max", x, n.add("Neg", x), np.float32(0.5)),
    "choice": lambda n, x: n.add("Where", n.add("And", n.add("Greater", x, np.float32(0)), n.add("Not", n.add("Less",
    x, np.float32(0.1)))), x, n.add("Min", x, np.float32(0.2))),
    "no number": lambda n, x: n.add("Where", n.add("IsNaN", x), np.float32(0), x),
    "remainder": lambda n, x: n.add("Mod", x, np.float32(0.7)),
    "either": lambda n, x: n.add("Cast", n.add("Or", n.add("Xor", n.add("Equal", x, x), n.add("LessOrEqual", x,
    np.float32(0))), n.add("GreaterOrEqual", x, np.float32(1))), to="float32"),
    "softmax": lambda n, x: n.add("Softmax", x, axis=1),
    "softmax of rows": lambda n, x: n.add("LogSoftmax", x, axis=3),
    "batch": lambda n, x: n.add("BatchNormalization", x, numbers(6), numbers(6), numbers(6),
    np.abs(numbers(6)) + np.float32(0.5)),
    "layer": lambda n, x: n.add("LayerNormalization", x, numbers(8, 10), numbers(8, 10), axis=2),
    "instance": lambda n, x: n.add("InstanceNormalization", x, numbers(6), numbers(6)),
    "flat": lambda n, x: n.add("Flatten", x, axis=1),
    "dense": lambda n, x: n.add("Gemm", n.add("Relu", n.add("Flatten", x, axis=1)), numbers(5, 480) / 20, numbers(5),
    transB=1),
    "dense of the mean": lambda n, x: n.add("Gemm", n.add("Flatten", n.add("GlobalAveragePool", x), axis=1), numbers(6,
    5), numbers(1, 5), alpha=0.5, beta=2.0),
    "tokens": lambda n, x: n.add("Transpose", n.add("Reshape", x, shape=[0, 6, 80]), perm=[0, 2, 1]),
    "product of tokens": lambda n, x: n.add("MatMul", n.add("Transpose", n.add("Reshape", x, shape=[0, 6, 80]),
    perm=[0, 2, 1]), numbers(6, 7)),
    "attention": lambda n, x: n.add("MatMul", n.add("Softmax", n.add("MatMul", n.add("Reshape", x, shape=[0, 6, 80]),
    n.add("Transpose", n.add("Reshape", x, shape=[0, 6, 80]), perm=[0, 2, 1])), axis=-1),
                                    n.add("Reshape", x, shape=[0, 6, 80])),
    "rows of an image": lambda n, x: n.add("MatMul", numbers(5, 8), x),
    "columns of an image": lambda n, x: n.add("MatMul", x, numbers(10, 7)),
    "statistics of channels": lambda n, x: n.conv(n.add("Concat", n.add("ReduceMax", x, axes=[1]), n.add("Unsqueeze",
    n.add("ReduceMean", x, axes=[1], keepdims=0), axes=[1]), axis=1), 3),
    "letters": lambda n, x: n.add("Einsum", x, numbers(10, 4), equation="nchw,wk->nkhc"),
    "letters of both": lambda n, x: n.add("Einsum", x, n.add("Relu", x), equation="nchw,ncgw->nhcg"),
    "shuffle": lambda n, x: n.add("Reshape", n.add("Transpose", n.add("Reshape", x, shape=[0, 2, 3, 8, 10]), perm=[0,
    2, 1, 3, 4]), shape=[0, 6, 8, 10]),
    "windows": lambda n, x: n.add("Reshape", n.add("Transpose", n.add("Reshape", x, shape=[0, 6, 2, 4, 2, 5]), perm=[0,
    2, 4, 3, 5, 1]), shape=[-1, 20, 6]),
    "join": lambda n, x: n.add("Concat", x, n.add("Neg", x), axis=1),
    "join of rows": lambda n, x: n.add("Concat", x, n.add("Slice", x, starts=[2], ends=[5], axes=[2]), axis=2),
    "token": lambda n, x: n.add("Concat", _repeated(n, x), n.add("Transpose", n.add("Reshape", x, shape=[0, 6, 80]),
    perm=[0, 2, 1]), axis=1),
    "squeeze": lambda n, x: n.add("Unsqueeze", n.add("Squeeze", n.add("GlobalAveragePool", x), axes=[2, 3]), axes=[1]),
    "steps": lambda n, x: n.add("Slice", x, starts=[1, 0], ends=[100, 7], axes=[2, 3], steps=[2, 3]),
    "backwards": lambda n, x: n.add("Slice", x, starts=[-1], ends=[-(2**62)], axes=[3], steps=[-1]),
    "picked": lambda n, x: n.add("Gather", x, np.array([5, -1, 0], I64), axis=1),
    "picked windows": lambda n, x: n.add("Gather", x, np.array([[0, 1], [2, 3]], I64), axis=2),
    "one": lambda n, x: n.add("Gather", x, np.array(3, I64), axis=2),
    "pad": lambda n, x: n.add("Pad", x, pads=[0, 0, 1, 2, 0, 0, 0, 1], value=0.5),
    "cut": lambda n, x: n.add("Pad", x, pads=[0, 0, -1, 2, 0, 0, 0, -3]),
    "mirror": lambda n, x: n.add("Pad", x, pads=[0, 0, 1, 2, 0, 0, 3, 1], mode="reflect"),
    "border": lambda n, x: n.add("Pad", x, pads=[0, 1, 1, 2, 0, 0, 3, 1], mode="edge"),
    "tile": lambda n, x: n.add("Tile", x, repeats=[1, 2, 1, 3]),
    "blocks": lambda n, x: n.add("SpaceToDepth", x, blocksize=2),
    "shuffled blocks": lambda n, x: n.add("DepthToSpace", n.conv(x, 8), blocksize=2, mode="CRD"),
    "blocks of columns": lambda n, x: n.add("DepthToSpace", n.conv(x, 8), blocksize=2, mode="DCR"),
    "sums": lambda n, x: n.add("ReduceSum", x, axes=[1], keepdims=0),
    "means": lambda n, x: n.add("ReduceMean", x, axes=[2, 3], keepdims=1),
    "extremes": lambda n, x: n.add("Sub", n.add("ReduceMax", x, axes=[3]), n.add("ReduceMin", x, axes=[3])),
    "lengths": lambda n, x: n.add("Add", n.add("ReduceL2", x, axes=[1]), n.add("ReduceL1", x, axes=[1])),
    "factors": lambda n, x: n.add("ReduceProd", x, axes=[1], keepdims=0),
    "place": lambda n, x: n.add("Cast", n.add("ArgMax", x, axis=1, keepdims=1), to="float32"),
    "running": lambda n, x: n.add("CumSum", x, axis=2, exclusive=1),
    "sizes": lambda n, x: n.add("Mul", x, n.add("Cast", n.add("Shape", x, start=0, end=1), to="float32")),
    "repeated": lambda n, x: n.add("Add", n.add("Expand", n.add("GlobalAveragePool", x), np.array([1, 6, 8, 10], I64),
    sizes=(1, 6, 8, 10)), numbers(6, 8, 10)),
    "largest": lambda n, x: n.builder.add("TopK", (n.add("Flatten", x, axis=1),), ("values", "places"), "layer", k=[3]),
    "smallest": lambda n, x: n.builder.add("TopK", (n.add("Flatten", x, axis=1),), ("values", "places"), "layer",
    k=[3], largest=0),
    "remainder of the size": lambda n, x: n.add("Mod", x, np.float32(0.7), fmod=1),
    "infinite": lambda n, x: n.add("Where", n.add("IsInf", n.add("Mul", n.add("Mul", x, np.float32(1e30)),
    np.float32(1e30))), np.float32(1), x),
    "nearest": lambda n, x: n.add("Resize", x, scales=[1, 1, 2, 3], mode="nearest",
    coordinate_transformation_mode="asymmetric", nearest_mode="floor"),
    "linear": lambda n, x: n.add("Resize", x, scales=[1, 1, 2, 2], mode="linear",
    coordinate_transformation_mode="half_pixel"),
    "corners": lambda n, x: n.add("Resize", x, scales=[1, 1, 2, 2], mode="linear",
    coordinate_transformation_mode="align_corners"),
    "cubic": lambda n, x: n.add("Resize", x, scales=[1, 1, 2, 2], mode="cubic",
    coordinate_transformation_mode="half_pixel"),
    "neighbours": lambda n, x: n.add("Squeeze", n.add("AveragePool", n.add("Unsqueeze", x, axes=[1]), kernel_shape=[5,
    1, 1], strides=[1, 1, 1], pads=[2, 0, 0, 2, 0, 0], count_include_pad=1), axes=[1]),
    "volume": lambda n, x: n.add("Conv", n.add("Unsqueeze", x, axes=[1]), numbers(3, 1, 2, 3, 3), numbers(3),
    kernel_shape=[2, 3, 3], strides=[2, 1, 1], pads=[0, 1, 1, 0, 1, 1], dilations=[1, 1, 1], group=1),
    "row": lambda n, x: n.add("Conv", n.add("Reshape", x, shape=[0, 6, 80]), numbers(4, 3, 5), kernel_shape=[5],
    strides=[2], pads=[2, 2], dilations=[1], group=2),
    "means of a row": lambda n, x: n.add("AveragePool", n.add("Reshape", x, shape=[0, 6, 80]), kernel_shape=[4],
    strides=[3], pads=[1, 0]),
}  # fmt: skip


def _repeated(net, x):
    """A token for each image of the batch."""
    count = net.add("Concat", net.add("Shape", x, start=0, end=1), np.array([1, 6], I64), axis=0)
    return net.add("Expand", numbers(1, 1, 6), count, sizes=(Batch(), 1, 6))


@pytest.mark.parametrize("behind", [False, True], ids=["of the image", "behind a convolution"])
@pytest.mark.parametrize("case", CASES)
def test_operators(case, behind, tmp_path):
    """Of an image as it is fed, and of one that lies with its channels last."""
    net = Net()
    output = CASES[case](net, net.conv(net.image) if behind else net.image)
    if case == "picked windows":  # Five axes are more than a transpose at the end wants.
        output = net.add("Reshape", output, shape=[0, 6, 40])
    net.judged(tmp_path, output, 2e-5 if case in ("instance", "factors", "layer") else 1e-5)


@pytest.mark.parametrize("operator", ELEMENTWISE)
def test_element_by_element(operator, tmp_path):
    net = Net()
    net.judged(tmp_path, net.add(operator, net.image), 2e-5 if operator == "Tan" else 2e-6)


@pytest.mark.parametrize(
    "kernel, stride, pads, dilation, group",
    [
        (3, (1, 1), [1, 1, 1, 1], 1, 1),
        (3, (2, 2), [0, 0, 1, 1], 1, 1),
        (3, (2, 2), [1, 1, 1, 1], 1, 1),
        (5, (2, 1), [2, 2, 1, 2], 1, 2),
        (3, (1, 1), [0] * 4, 2, 1),
        (3, (1, 1), [2, 2, 2, 2], 2, 6),
        (1, (2, 2), [0] * 4, 1, 3),
        (4, (2, 2), [1, 2, 3, 0], 1, 6),
    ],
)
def test_convolutions(kernel, stride, pads, dilation, group, tmp_path):
    net = Net()
    outputs = 12 if group == 6 else 6
    model = net.judged(
        tmp_path,
        net.conv(net.image, outputs, kernel, strides=list(stride), pads=pads, dilations=[dilation] * 2, group=group),
        5e-6,
    )
    assert names(model).count("PAD") == (
        pads not in ([1, 1, 1, 1], [0, 0, 1, 1], [0] * 4, [2, 2, 2, 2]) or (kernel, stride[0], pads[0]) == (3, 2, 1)
    )


@pytest.mark.parametrize(
    "kernel, strides, pads, extra, group, dilation",
    [
        (3, [2, 2], [1, 1, 1, 1], [1, 1], 1, 1),
        (2, [2, 3], [0] * 4, [0, 1], 2, 1),
        (3, [1, 2], [2, 0, 1, 1], [0, 0], 3, 2),
    ],
)
def test_enlarging_convolutions(kernel, strides, pads, extra, group, dilation, tmp_path):
    net = Net()
    weight = numbers(6, 4 // group if group != 3 else 2, kernel, kernel)
    net.judged(
        tmp_path,
        net.add(
            "ConvTranspose",
            net.image,
            weight,
            numbers(weight.shape[1] * group),
            strides=strides,
            pads=pads,
            output_padding=extra,
            group=group,
            dilations=[dilation] * 2,
            kernel_shape=[kernel] * 2,
        ),
        5e-6,
    )


@pytest.mark.parametrize(
    "operator, more", [("MaxPool", {}), ("AveragePool", {}), ("AveragePool", {"count_include_pad": 1})]
)
@pytest.mark.parametrize(
    "kernel, strides, pads, ceil",
    [
        ([3, 3], [2, 2], [1, 1, 1, 1], 0),
        ([3, 3], [2, 2], [0, 0, 1, 1], 0),
        ([2, 3], [2, 2], [0, 0, 0, 0], 1),
        ([3, 2], [3, 3], [1, 0, 0, 1], 1),
    ],
)
def test_pooling(operator, more, kernel, strides, pads, ceil, tmp_path):
    net = Net()
    net.judged(
        tmp_path,
        net.add(operator, net.conv(net.image), kernel_shape=kernel, strides=strides, pads=pads, ceil_mode=ceil, **more),
    )


@settings(max_examples=60, deadline=None)
@given(data=st.data())
def test_any_chain_of_layers_keeps_its_meaning(data, tmp_path_factory):
    """Layers in any order: whatever lies in whatever order in between, the scores are those of the graph."""
    net = Net((Batch(), 4, 6, 8))
    x, seen = net.conv(net.image, 4), []
    for _ in range(data.draw(st.integers(1, 6))):
        kind = data.draw(
            st.sampled_from(
                ("conv", "relu", "add", "shuffle", "transpose", "softmax", "mean", "join", "slice", "product", "flat")
            )
        )
        shape = net.builder.types[x].shape
        if len(shape) == 2:
            x = net.add("Gemm", x, numbers(4, shape[1]) / 4, transB=1)
            continue
        seen.append(x)
        if kind == "conv":
            x = net.conv(x, 4)
        elif kind == "relu":
            x = net.add("Relu", x)
        elif kind == "add":
            other = next((each for each in seen[::-1] if net.builder.types[each].shape == shape), x)
            x = net.add("Add", x, other)
        elif kind == "shuffle" and shape[1] % 2 == 0:
            split = net.add("Reshape", x, shape=[-1, 2, shape[1] // 2, *shape[2:]])
            x = net.add("Reshape", net.add("Transpose", split, perm=[0, 2, 1, 3, 4]), shape=[-1, *shape[1:]])
        elif kind == "transpose":
            x = net.add("Transpose", x, perm=[0, *data.draw(st.permutations([1, 2, 3]))])
        elif kind == "softmax":
            x = net.add("Softmax", x, axis=data.draw(st.integers(1, 3)))
        elif kind == "mean":
            x = net.add("Sub", x, net.add("ReduceMean", x, axes=[data.draw(st.integers(1, 3))]))
        elif kind == "join":
            x = net.add("Concat", x, net.add("Sigmoid", x), axis=data.draw(st.integers(1, 3)))
        elif kind == "slice" and max(shape[1:]) < 64:
            x = net.add("Slice", x, starts=[0], ends=[max(1, shape[2] // 2)], axes=[2])
        elif kind == "product":
            x = net.add("MatMul", x, numbers(shape[3], 4) / 4)
        elif kind == "flat":
            x = net.add("Flatten", x, axis=1)
    net.judged(tmp_path_factory.mktemp("chain"), x, 1e-5)


def test_networks_have_no_transposes_and_joined_activations(tmp_path):
    net = Net((Batch(), 3, 16, 16))
    x = net.add("Relu", net.conv(net.image, 8))
    y = net.add("Clip", net.conv(x, 8, group=8), min=0, max=6)
    x = net.add("Relu", net.add("Add", x, net.conv(y, 8, 1)))
    scores = net.add(
        "Gemm",
        net.add("Flatten", net.add("MaxPool", x, kernel_shape=[2, 2], strides=[2, 2]), axis=1),
        numbers(5, 512) / 20,
        numbers(5),
        transB=1,
    )
    model = net.judged(tmp_path, scores)
    assert names(model) == [
        "TRANSPOSE",
        "CONV_2D",
        "DEPTHWISE_CONV_2D",
        "CONV_2D",
        "ADD",
        "MAX_POOL_2D",
        "RESHAPE",
        "FULLY_CONNECTED",
    ]
    assert [each.options.get("activation") for each in model.operators[1:5]] == [1, 3, 0, 1]


def test_resizes_and_statistics_of_channels_turn_nothing(tmp_path):
    """Between convolutions the image lies with its channels last, whatever is done along its rows, columns and
    channels."""
    for case in ("rows of an image", "columns of an image", "statistics of channels"):
        net = Net()
        made = net.conv(CASES[case](net, net.conv(net.image)), 4)
        model = net.judged(tmp_path, net.add("Flatten", net.add("GlobalAveragePool", made), axis=1))
        assert names(model).count("TRANSPOSE") == 1


def test_gelu_is_one_operator(tmp_path):
    """Written out in the ways of training code."""
    for half_first in (True, False):
        net = Net()
        x = net.conv(net.image)
        bent = net.add("Add", net.add("Erf", net.add("Div", x, np.float32(2**0.5))), np.float32(1))
        made = (
            net.add("Mul", net.add("Mul", x, np.float32(0.5)), bent)
            if half_first
            else net.add("Mul", net.add("Mul", x, bent), np.float32(0.5))
        )
        assert names(net.judged(tmp_path, made)) == ["TRANSPOSE", "CONV_2D", "GELU", "TRANSPOSE"]


def test_what_the_format_lacks_is_named_with_its_layers(tmp_path):
    net = Net()
    x = net.add("Atan", net.add("Sinh", net.image))
    with pytest.raises(
        ArtifactError,
        match=r"cannot be written as a mobile flatbuffer: .*Sinh is no operator of the format \(layer layer\)",
    ):
        write_artifact(net.builder.finish([x]), tmp_path / "m.tflite", Metadata())
    assert not list(tmp_path.iterdir())


def test_a_batch_that_cannot_be_open_is_one_and_that_is_said(tmp_path):
    """Images beside each other as channels: no shape states that for any number of them."""
    builder = GraphBuilder()
    x = builder.input("image", TensorType(FLOAT, (Batch(), 4, 2)))
    made = builder.add("Reshape", (x,), "wide", "mixer", shape=[1, -1, 2])
    made = builder.add(
        "Reshape",
        (builder.add("Tile", (made,), "tiled", "mixer", repeats=[1, 1, 2]),),
        "scores",
        "mixer",
        shape=[-1, 16],
    )
    write_artifact(builder.finish([made]), tmp_path / "m.tflite", Metadata())
    assert RuntimeEngine(tmp_path / "m.tflite").run(numbers(1, 4, 2)).shape == (1, 16)


def test_a_file_of_more_than_two_gigabytes_is_refused_before_it_is_written(tmp_path):
    net = Net((Batch(), 1 << 15))
    made = net.add("Gemm", net.image, np.broadcast_to(np.float32(0), (1 << 15, 1 << 15)), transB=1)
    with pytest.raises(ArtifactError, match="would be 4.3 GB, but a mobile flatbuffer is at most 2 GB"):
        write_artifact(net.builder.finish([made]), tmp_path / "m.tflite", Metadata())
    assert not list(tmp_path.iterdir())


@pytest.fixture(scope="module")
def converted(shipped, tmp_path_factory):
    """The demo's program as a flatbuffer, by the program."""
    path = tmp_path_factory.mktemp("mobile") / "m.tflite"
    assert (
        main(
            [
                "convert",
                str(shipped / "channel_marks.pt2"),
                "-o",
                str(path),
                "--inlet",
                str(shipped / "channel_marks.inlet.toml"),
                "--labels",
                str(shipped / "labels.txt"),
            ]
        )
        == 0
    )
    return path


@pytest.mark.slow
def test_the_demo_models_match_on_the_mobile_runtime(converted, shipped, tmp_path, capsys):
    assert (
        main(
            [
                "match",
                str(converted),
                "--witness",
                str(shipped / "channel_marks.witness"),
                "--images",
                str(shipped / "reference"),
            ]
        )
        == 0
    )
    assert "LiteRT" in capsys.readouterr().out
    keras = shipped / "keras"
    assert (
        main(
            [
                "convert",
                str(keras / "channel_marks.keras"),
                "-o",
                str(tmp_path / "k.tflite"),
                "--inlet",
                str(keras / "channel_marks.inlet.toml"),
                "--labels",
                str(shipped / "labels.txt"),
            ]
        )
        == 0
    )
    assert (
        main(
            [
                "match",
                str(tmp_path / "k.tflite"),
                "--witness",
                str(keras / "channel_marks.witness"),
                "--images",
                str(shipped / "reference"),
            ]
        )
        == 0
    )
    assert not {"TRANSPOSE", "PAD"} & set(names(read_model(tmp_path / "k.tflite")))


def test_the_file_explains_itself_to_us_and_to_others(converted, shipped):
    facts, labels = read_artifact(converted), read_labels(shipped / "labels.txt").names
    assert facts.metadata.inlet == read_inlet(shipped / "channel_marks.inlet.toml") and facts.metadata.labels == labels
    assert facts.metadata.origin.source == "channel_marks.pt2" and facts.signatures == ("serving_default",)
    assert (facts.inputs, facts.outputs) == (
        {"image": ("float32", ("N", 3, 64, 64))},
        {"scores": ("float32", ("N", 10))},
    )
    with zipfile.ZipFile(converted) as archive:
        assert archive.read("labels.txt").decode().split() == list(labels)
    meaning, values = read_meaning(read_model(converted), "m"), facts.metadata.inlet.values
    assert (
        meaning.labels == {0: labels}
        and np.allclose(meaning.mean, 255 * np.array(values.mean))
        and np.allclose(meaning.std, 255 * np.array(values.std))
    )


def test_the_same_source_gives_the_same_bytes(converted, shipped, tmp_path):
    convert(
        shipped / "channel_marks.pt2",
        tmp_path / "again.tflite",
        read_inlet(shipped / "channel_marks.inlet.toml"),
        read_labels(shipped / "labels.txt"),
    )
    assert converted.read_bytes() == (tmp_path / "again.tflite").read_bytes()


def test_half_is_half_the_file_and_close(converted, shipped, tmp_path):
    convert(shipped / "channel_marks.pt2", tmp_path / "h.tflite", choices=Choices(half=True))
    assert (tmp_path / "h.tflite").stat().st_size < 0.6 * converted.stat().st_size
    x = numbers(3, 3, 64, 64)
    wanted = RuntimeEngine(converted).run(x)
    assert 0 < np.abs(RuntimeEngine(tmp_path / "h.tflite").run(x) - wanted).max() < 2e-3 * np.ptp(wanted)


def test_read_again_it_is_the_same_model(converted, shipped, tmp_path):
    convert(shipped / "channel_marks.pt2", tmp_path / "straight.onnx")
    again = convert(converted, tmp_path / "again.onnx")
    x = numbers(4, 3, 64, 64)
    straight, found = (RuntimeEngine(tmp_path / name, 1).run(x) for name in ("straight.onnx", "again.onnx"))
    assert np.abs(found - straight).max() <= 1e-5 * np.ptp(straight)
    assert again.inlet == read_inlet(shipped / "channel_marks.inlet.toml") and len(again.labels.names) == 10


@pytest.mark.parametrize(
    "options, words",
    [
        (Writing(opset=18), "--opset does not apply to .*a mobile flatbuffer has no opset"),
        (Writing(raw_pixels=True), "--raw-pixels does not apply to .*images of one size"),
    ],
)
def test_settings_that_the_format_lacks_are_refused(options, words, tmp_path):
    net = Net()
    with pytest.raises(ArtifactError, match=words):
        write_artifact(net.builder.finish([net.add("Relu", net.image)]), tmp_path / "m.tflite", Metadata(), options)


def test_passes_do_not_matter(tmp_path):
    """A graph as it is, and after its passes."""
    net = Net()
    scores = net.add(
        "Flatten",
        net.add(
            "BatchNormalization",
            net.conv(net.image),
            numbers(6),
            numbers(6),
            numbers(6),
            np.abs(numbers(6)) + np.float32(1),
        ),
        axis=1,
    )
    graph, x, found = net.builder.finish([scores]), numbers(2, 6, 8, 10), []
    for name, each in (("a", graph), ("b", run_passes(graph))):
        write_artifact(each, tmp_path / f"{name}.tflite", Metadata())
        found.append(RuntimeEngine(tmp_path / f"{name}.tflite").run(x))
    assert np.abs(found[0] - found[1]).max() < 1e-5


def test_the_first_layer_that_differs_is_named_whatever_ran_and_whatever_was_recorded(
    converted, shipped, tmp_path, capsys
):
    """A weight that was changed in the flatbuffer, held against a recording of the flatbuffer as it was."""
    witness = tmp_path / "w.witness"
    assert (
        main(
            [
                "witness",
                str(converted),
                "--images",
                str(shipped / "reference"),
                "--inlet",
                str(shipped / "channel_marks.inlet.toml"),
                "--layers",
                "-o",
                str(witness),
            ]
        )
        == 0
    )
    model = read_model(converted)
    changed = [each for each in model.operators if each.name == "CONV_2D"][7]
    kernel = model.tensors[changed.inputs[1]]
    kernel.data = kernel.data * np.float32(1.5)
    write_model(model, tmp_path / "changed.tflite")
    convert(tmp_path / "changed.tflite", tmp_path / "changed.onnx")
    for name in ("changed.tflite", "changed.onnx"):
        capsys.readouterr()
        assert main(["match", str(tmp_path / name), "--witness", str(witness)]) == 1
        assert (
            f"layer {model.tensors[changed.outputs[0]].name} is the first whose output differs"
            in capsys.readouterr().out.replace("\n", " ")
        )


def test_a_file_that_the_runtime_does_not_run_leaves_the_older_one(shipped, tmp_path, monkeypatch):
    """The runtime refuses a batch that the file states: the sentence names the output, and what stood there stays."""
    pytest.importorskip("ai_edge_litert")
    from zygal.engines.mobile_session import MobileSession

    def refused(self, names, feed):
        raise RuntimeError("failed to prepare")

    monkeypatch.setattr(MobileSession, "run", refused)
    artifact = tmp_path / "marks.tflite"
    artifact.write_bytes(b"the older file")
    with pytest.raises(ArtifactError, match=rf"does not run {artifact} at a batch of 1 \(failed to prepare\)"):
        convert(shipped / "channel_marks.pt2", artifact)
    assert artifact.read_bytes() == b"the older file" and [each.name for each in tmp_path.iterdir()] == ["marks.tflite"]
