"""Reading mobile flatbuffers: the mobile runtime is the judge, on files that are built here operator by operator."""

from itertools import product

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from mobile import Flatbuffer, on_the_runtime

from zygal.conversion.convert import Choices, convert
from zygal.engines.artifact import RuntimeEngine
from zygal.errors import SourceError
from zygal.graph.reference import run_graph
from zygal.sources import Reading, read_source


def numbers(*shape):
    return np.random.default_rng(sum(shape) + len(shape)).standard_normal(shape, np.float32)


def graph_scores(path, x, **reading):
    with read_source(path, reading=Reading(**reading)) as source:
        graph = source.graph
        return run_graph(graph, {graph.inputs[0]: x})[graph.outputs[0]]


def check(tmp_path, build, x, within=2e-6, **reading):
    """The graph of what `build` makes beside the runtime. build: of a Flatbuffer and its input, gives the output."""
    made = Flatbuffer()
    path = made.write(tmp_path / "m.tflite", build(made, made.input(x.shape, x.dtype.name)))
    wanted, found = on_the_runtime(path, x), graph_scores(path, x, **reading)
    assert found.shape == wanted.shape
    assert np.abs(found - wanted).max() <= within * max(np.abs(wanted).max(), 1)


@pytest.mark.parametrize(
    "padding, stride, dilation, kernel, activation",
    [
        (0, (1, 1), (1, 1), (3, 3), 0),
        (1, (1, 1), (1, 1), (3, 3), 1),
        (0, (2, 2), (1, 1), (3, 3), 3),
        (0, (2, 1), (1, 1), (5, 2), 2),
        (1, (3, 2), (1, 1), (4, 4), 0),
        (0, (1, 1), (2, 3), (3, 3), 0),
        (1, (1, 1), (2, 1), (2, 3), 1),
        (0, (2, 2), (1, 1), (1, 1), 0),
    ],
)
@pytest.mark.parametrize("kind", ["plain", "grouped", "depthwise", "multiplied"])
def test_convolutions(kind, padding, stride, dilation, kernel, activation, tmp_path):
    x, options = (
        numbers(2, 9, 11, 4),
        {
            "padding": padding,
            "activation": activation,
            "stride_h": stride[0],
            "stride_w": stride[1],
            "dilation_h": dilation[0],
            "dilation_w": dilation[1],
        },
    )
    effective = [(k - 1) * d + 1 for k, d in zip(kernel, dilation)]
    sizes = [-(-n // s) if padding == 0 else (n - e) // s + 1 for n, s, e in zip((9, 11), stride, effective)]
    if kind in ("plain", "grouped"):
        shape, name, version = (6, *kernel, 4 if kind == "plain" else 2), "CONV_2D", 6
        outputs = 6
    else:
        outputs = 4 * (1 if kind == "depthwise" else 2)
        shape, name, version = (1, *kernel, outputs), "DEPTHWISE_CONV_2D", 2
        options["depth_multiplier"] = outputs // 4
    check(
        tmp_path,
        lambda m, i: m.add(
            name, [i, numbers(*shape), numbers(outputs)], (2, *sizes, outputs), version=version, **options
        ),
        x,
        5e-6,
    )


@pytest.mark.parametrize("name", ["MAX_POOL_2D", "AVERAGE_POOL_2D", "L2_POOL_2D"])
@pytest.mark.parametrize(
    "padding, stride, kernel", [(0, (2, 2), (3, 3)), (1, (1, 2), (2, 3)), (0, (3, 1), (2, 5)), (0, (1, 1), (3, 3))]
)
def test_pooling(name, padding, stride, kernel, tmp_path):
    sizes = [-(-n // s) if padding == 0 else (n - k) // s + 1 for n, s, k in zip((9, 11), stride, kernel)]
    options = {
        "padding": padding,
        "stride_h": stride[0],
        "stride_w": stride[1],
        "filter_h": kernel[0],
        "filter_w": kernel[1],
        "activation": 1,
    }
    check(tmp_path, lambda m, i: m.add(name, [i], (2, *sizes, 3), **options), numbers(2, 9, 11, 3))


@pytest.mark.parametrize(
    "padding, stride, kernel, size",
    [(0, (2, 2), (3, 3), (10, 14)), (1, (2, 2), (3, 3), (11, 15)), (0, (2, 3), (4, 2), (9, 20))],
)
def test_enlarging_convolutions(padding, stride, kernel, size, tmp_path):
    shape = np.array([2, *size, 4], np.int32)
    check(
        tmp_path,
        lambda m, i: m.add(
            "TRANSPOSE_CONV",
            [shape, numbers(4, *kernel, 3), i, numbers(4)],
            (2, *size, 4),
            version=3,
            padding=padding,
            stride_h=stride[0],
            stride_w=stride[1],
        ),
        numbers(2, 5, 7, 3),
        5e-6,
    )


X4, X2 = numbers(2, 4, 6, 8), numbers(2, 12)
POSITIVE = np.abs(X4) + np.float32(0.1)
I32 = np.int32
UNARY = (
    "ABS",
    "CEIL",
    "COS",
    "ELU",
    "EXP",
    "FLOOR",
    "GELU",
    "HARD_SWISH",
    "LOGISTIC",
    "LOG_SOFTMAX",
    "NEG",
    "RELU",
    "RELU6",
    "RELU_N1_TO_1",
    "RELU_0_TO_1",
    "ROUND",
    "SIGN",
    "SIN",
    "SQUARE",
    "TANH",
)
BINARY = ("ADD", "SUB", "MUL", "DIV", "MAXIMUM", "MINIMUM", "SQUARED_DIFFERENCE", "POW", "FLOOR_DIV", "FLOOR_MOD")
REDUCTIONS = ("MEAN", "SUM", "REDUCE_MAX", "REDUCE_MIN", "REDUCE_PROD")


@pytest.mark.parametrize("name", UNARY)
def test_element_by_element(name, tmp_path):
    check(tmp_path, lambda m, i: m.add(name, [i], X4.shape), 3 * X4, 1e-5)


@pytest.mark.parametrize("name", ["LOG", "SQRT", "RSQRT"])
def test_of_positive_numbers(name, tmp_path):
    check(tmp_path, lambda m, i: m.add(name, [i], X4.shape), POSITIVE)


@pytest.mark.parametrize("name, other", list(product(BINARY, [(8,), (4, 6, 8), (2, 1, 1, 8), (1, 4, 6, 1), ()])))
def test_pairs(name, other, tmp_path):
    second = (np.abs(numbers(*other, 1)[..., 0]) + np.float32(0.5)).astype(np.float32)
    check(tmp_path, lambda m, i: m.add(name, [i, np.array(second).reshape(other)], X4.shape), POSITIVE, 5e-6)


@pytest.mark.parametrize(
    "name, axes, keep",
    [
        (name, axes, keep)
        for name in REDUCTIONS
        for axes, keep in (((1, 2), True), ((1, 2), False), ((3,), False), ((-1, 1), True))
    ],
)
def test_reductions(name, axes, keep, tmp_path):
    shape = [1 if at in [axis % 4 for axis in axes] else size for at, size in enumerate(X4.shape)]
    shape = shape if keep else [size for at, size in enumerate(X4.shape) if at not in [axis % 4 for axis in axes]]
    check(tmp_path, lambda m, i: m.add(name, [i, np.array(axes, I32)], shape, keep_dims=keep), X4, 1e-5)


OTHERS = {
    "softmax of twice": (lambda m, i: m.add("SOFTMAX", [i], X4.shape, beta=2.0), X4),
    "leaky": (lambda m, i: m.add("LEAKY_RELU", [i], X4.shape, alpha=0.3), X4),
    "slopes": (lambda m, i: m.add("PRELU", [i, numbers(1, 1, 8)], X4.shape), X4),
    "approximate gelu": (lambda m, i: m.add("GELU", [i], X4.shape, approximate=True), X4),
    "unit length": (lambda m, i: m.add("L2_NORMALIZATION", [i], X4.shape), X4),
    "neighbours": (lambda m, i: m.add("LOCAL_RESPONSE_NORMALIZATION", [i], X4.shape, radius=2, bias=1.0, alpha=0.3,
    beta=0.7), X4),
    "dense": (lambda m, i: m.add("FULLY_CONNECTED", [i, numbers(5, 12), numbers(5)], (2, 5), activation=1), X2),
    "dense of an image": (lambda m, i: m.add("FULLY_CONNECTED", [i, numbers(5, 192), numbers(5)], (2, 5)), X4),
    "dense of pixels": (lambda m, i: m.add("FULLY_CONNECTED", [i, numbers(5, 8), numbers(5)], (2, 4, 6, 5), version=5,
    keep_num_dims=True), X4),
    "dense of rows": (lambda m, i: m.add("FULLY_CONNECTED", [i, numbers(5, 8), -1], (48, 5)), X4),
    "dense of a convolution": (lambda m, i: m.add("FULLY_CONNECTED", [m.add("CONV_2D", [i, numbers(3, 1, 1, 8),
    numbers(3)], (2, 4, 6, 3), stride_h=1, stride_w=1),
                                                                      numbers(5, 72), numbers(5)], (2, 5)), X4),
    "products": (lambda m, i: m.add("BATCH_MATMUL", [i, numbers(2, 4, 5, 8)], (2, 4, 6, 5), adj_y=True), X4),
    "turned products": (lambda m, i: m.add("BATCH_MATMUL", [i, numbers(6, 3)], (2, 4, 8, 3), adj_x=True), X4),
    "reshape": (lambda m, i: m.add("RESHAPE", [i, np.array([-1, 6, 32], I32)], (2, 6, 32)), X4),
    "reshape by its settings": (lambda m, i: m.add("RESHAPE", [i], (2, 192), new_shape=[2, 192]), X4),
    "transpose": (lambda m, i: m.add("TRANSPOSE", [i, np.array([0, 3, 1, 2], I32)], (2, 8, 4, 6)), X4),
    "squeeze": (lambda m, i: m.add("SQUEEZE", [m.add("RESHAPE", [i, np.array([2, 1, 24, 8], I32)], (2, 1, 24, 8))], (2,
    24, 8), squeeze_dims=[1]), X4),
    "an axis more": (lambda m, i: m.add("EXPAND_DIMS", [i, np.array(1, I32)], (2, 1, 4, 6, 8)), X4),
    "join": (lambda m, i: m.add("CONCATENATION", [i, m.add("NEG", [i], X4.shape), numbers(2, 4, 6, 3)], (2, 4, 6, 19),
    axis=-1), X4),
    "stack": (lambda m, i: m.add("PACK", [i, m.add("NEG", [i], X4.shape)], (2, 4, 6, 8, 2), values_count=2, axis=-1),
    X4),
    "unstack": (lambda m, i: m.add("UNPACK", [i], (2, 6, 8), results=4, num=4, axis=1)[2], X4),
    "split": (lambda m, i: m.add("SPLIT", [np.array(3, I32), i], (2, 4, 6, 4), results=2, num_splits=2)[1], X4),
    "uneven split": (lambda m, i: m.add("CONCATENATION", _uneven(m, i)[::-1], X4.shape, axis=3), X4),
    "tile": (lambda m, i: m.add("TILE", [i, np.array([1, 2, 1, 3], I32)], (2, 8, 6, 24)), X4),
    "repeated": (lambda m, i: m.add("BROADCAST_TO", [m.add("RESHAPE", [i, np.array([2, 4, 1, 48], I32)], (2, 4, 1,
    48)), np.array([2, 4, 3, 48], I32)],
                                    (2, 4, 3, 48), version=2), X4),
    "reversed": (lambda m, i: m.add("REVERSE_V2", [i, np.array([2], I32)], X4.shape), X4),
    "slice": (lambda m, i: m.add("SLICE", [i, np.array([0, 1, 2, 0], I32), np.array([-1, 2, -1, 5], I32)], (2, 2, 4,
    5)), X4),
    "steps": (lambda m, i: m.add("STRIDED_SLICE", [i, np.array([0, 3, 0, 1], I32), np.array([0, 0, 6, 8], I32),
    np.array([1, -1, 2, 3], I32)], (2, 3, 3, 3),
                                 begin_mask=1, end_mask=1), X4),
    "one place": (lambda m, i: m.add("STRIDED_SLICE", [i, np.array([0, -1], I32), np.array([0, 0], I32), np.array([1,
    1], I32)], (2, 6, 8), begin_mask=1,
                                     end_mask=1, shrink_axis_mask=2), X4),
    "picked": (lambda m, i: m.add("GATHER", [i, np.array([5, 0, 3], I32)], (2, 4, 3, 8), axis=2), X4),
    "pad": (lambda m, i: m.add("PAD", [i, np.array([[0, 0], [1, 2], [0, 1], [0, 0]], I32)], (2, 7, 7, 8)), X4),
    "pad of a number": (lambda m, i: m.add("PADV2", [i, np.array([[0, 0], [1, 2], [0, 1], [0, 0]], I32),
    np.float32(-3)[None][0:1].reshape(())], (2, 7, 7, 8)), X4),
    "mirrored": (lambda m, i: m.add("MIRROR_PAD", [i, np.array([[0, 0], [1, 2], [2, 1], [0, 0]], I32)], (2, 7, 9, 8),
    mode=0), X4),
    "mirrored with the border": (lambda m, i: m.add("MIRROR_PAD", [i, np.array([[0, 0], [1, 2], [2, 1], [0, 0]], I32)],
    (2, 7, 9, 8), mode=1), X4),
    "blocks to channels": (lambda m, i: m.add("SPACE_TO_DEPTH", [i], (2, 2, 3, 32), block_size=2), X4),
    "channels to blocks": (lambda m, i: m.add("DEPTH_TO_SPACE", [i], (2, 8, 12, 2), block_size=2), X4),
    "running sums": (lambda m, i: m.add("CUMSUM", [i, np.array(2, I32)], X4.shape, exclusive=True, reverse=True), X4),
    "largest": (lambda m, i: _three_largest(m, i)[0], X2),
    "its place": (lambda m, i: m.add("CAST", [m.add("ARG_MAX", [i, np.array(1, I32)], (2,), "int32", output_type=2)],
    (2,), in_data_type=2, out_data_type=0), X2),
    "choice": (lambda m, i: m.add("SELECT_V2", [m.add("GREATER", [i, np.float32([0.2])], X4.shape, "bool"), i,
    numbers(8)], X4.shape), X4),
    "either": (lambda m, i: m.add("CAST", [m.add("LOGICAL_OR", [m.add("LESS", [i, np.float32([-1])], X4.shape, "bool"),
                                                               m.add("LOGICAL_NOT", [m.add("LESS_EQUAL", [i,
                                                               np.float32([1])], X4.shape, "bool")], X4.shape, "bool")],
                                                  X4.shape, "bool")], X4.shape, in_data_type=6, out_data_type=0), X4),
    "dealt out": (lambda m, i: _dilated(m, i), X4),
    "sum of three": (lambda m, i: m.add("ADD_N", [i, i, m.add("EXP", [i], X4.shape)], X4.shape), X4),
    "a size of the image": (lambda m, i: m.add("RESHAPE", [i, _size(m, i)], (2, 192)), X4),
}  # fmt: skip


def _three_largest(m, i):
    made = m.add("TOPK_V2", [i, np.array(3, I32)], (2, 3), results=2)
    m.model.tensors[made[1]].dtype = "int32"
    return made


def _uneven(m, i):
    sizes = [3, 1, 4]
    parts = m.add("SPLIT_V", [i, np.array(sizes, I32), np.array(3, I32)], (2, 4, 6, 3), results=3, num_splits=3)
    for part, size in zip(parts, sizes):
        m.model.tensors[part].shape = (2, 4, 6, size)
    return parts


def _dilated(m, i):
    """A dilated convolution as older training code writes it."""
    blocks, pads = np.array([2, 2], I32), np.array([[2, 2], [2, 2]], I32)
    spread = m.add("SPACE_TO_BATCH_ND", [i, blocks, pads], (8, 4, 5, 8))
    seen = m.add("CONV_2D", [spread, numbers(3, 3, 3, 8), numbers(3)], (8, 2, 3, 3), padding=1, stride_h=1, stride_w=1)
    return m.add("BATCH_TO_SPACE_ND", [seen, blocks, np.array([[0, 0], [0, 0]], I32)], (2, 4, 6, 3))


def _size(m, i):
    shape = m.add("SHAPE", [i], (4,), "int32", out_type=2)
    first = m.add(
        "STRIDED_SLICE",
        [shape, np.array([0], I32), np.array([1], I32), np.array([1], I32)],
        (),
        "int32",
        shrink_axis_mask=1,
    )
    return m.add("PACK", [first, np.array(192, I32)], (2,), "int32", values_count=2, axis=0)


@pytest.mark.parametrize("name", OTHERS)
def test_operators(name, tmp_path):
    build, x = OTHERS[name]
    check(tmp_path, build, x, 1e-5)


@pytest.mark.parametrize(
    "name, size, corners, centres",
    [
        (name, size, corners, centres)
        for name in ("RESIZE_BILINEAR", "RESIZE_NEAREST_NEIGHBOR")
        for size in ((8, 12), (7, 5), (3, 13))
        for corners, centres in ((0, 0), (1, 0), (0, 1))
    ],
)
def test_resizing(name, size, corners, centres, tmp_path):
    options = {"align_corners": bool(corners), "half_pixel_centers": bool(centres)}
    check(tmp_path, lambda m, i: m.add(name, [i, np.array(size, I32)], (2, *size, 8), version=3, **options), X4, 1e-5)


def test_sizes_that_follow_the_batch(tmp_path):
    """What training code writes for a flattening: the size of the batch is asked for and put into a shape."""
    made = Flatbuffer()
    image = made.input((1, 4, 6, 8), open_batch=True)
    path = made.write(
        tmp_path / "m.tflite", made.add("RESHAPE", [image, _size(made, image)], (1, 192), open_batch=True)
    )
    with read_source(path) as source:
        graph = source.graph
    assert [str(graph.types[name]) for name in (*graph.inputs, *graph.outputs)] == [
        "float32 [N, 4, 6, 8]",
        "float32 [N, 192]",
    ]
    x = numbers(3, 4, 6, 8)
    assert np.array_equal(run_graph(graph, {"image": x})[graph.outputs[0]], on_the_runtime(path, x))


def test_open_sizes_of_images_are_asked_for(tmp_path):
    made = Flatbuffer()
    image = made.input((1, 1, 1, 3), open_batch=True)
    made.model.tensors[image].open_axes = (0, 1, 2)
    path = made.write(tmp_path / "m.tflite", made.add("MEAN", [image, np.array([1, 2], I32)], (1, 3), open_batch=True))
    with (
        pytest.raises(
            SourceError, match=r"leaves the size of its images open \(\[\?, \?, \?, 3\]\); say it with --shape"
        ),
        read_source(path),
    ):
        pass
    x = numbers(2, 5, 7, 3)
    assert np.abs(graph_scores(path, x, image_shape=(5, 7, 3)) - on_the_runtime(path, x)).max() < 1e-6


@settings(max_examples=60, deadline=None)
@given(data=st.data())
def test_any_chain_of_operators_means_what_it_means_on_the_runtime(data, tmp_path_factory):
    """Images, rows and matrices in any order, with an open batch, and the artifact of it as well."""
    made = Flatbuffer()
    x, shape = made.input((1, 6, 8, 4), open_batch=True), (1, 6, 8, 4)
    draw, seen = data.draw, []

    def add(name, inputs, sizes, **more):
        return made.add(name, inputs, sizes, open_batch=True, **more), tuple(sizes)

    for _ in range(draw(st.integers(1, 6))):
        kinds = ["act", "both", "softmax", "mean"]
        kinds += (
            ["conv", "depthwise", "pool", "turn", "pad", "cut", "rows", "flat", "join"]
            if len(shape) == 4
            else ["dense"]
        )
        kind = draw(st.sampled_from(kinds))
        seen.append((x, shape))
        if kind == "act":
            x, shape = add(draw(st.sampled_from(("RELU", "LOGISTIC", "TANH", "ABS"))), [x], shape)
        elif kind == "both":
            other = next((each for each, size in seen[::-1] if size == shape), x)
            x, shape = add(draw(st.sampled_from(("ADD", "MUL", "MAXIMUM"))), [x, other], shape)
        elif kind == "softmax":
            x, shape = add("SOFTMAX", [x], shape, beta=1.0)
        elif kind == "mean":
            axis = draw(st.integers(1, len(shape) - 1))
            x, shape = add(
                "MEAN",
                [x, np.array([axis], I32)],
                [1 if at == axis else size for at, size in enumerate(shape)],
                keep_dims=True,
            )
        elif kind == "conv":
            x, shape = add(
                "CONV_2D",
                [x, numbers(5, 3, 3, shape[3]) / 4, numbers(5)],
                (*shape[:3], 5),
                stride_h=1,
                stride_w=1,
                activation=draw(st.sampled_from((0, 1, 3))),
            )
        elif kind == "depthwise":
            x, shape = add(
                "DEPTHWISE_CONV_2D",
                [x, numbers(1, 3, 3, shape[3]) / 2, numbers(shape[3])],
                shape,
                stride_h=1,
                stride_w=1,
                depth_multiplier=1,
            )
        elif kind == "pool":
            sizes = (1, -(-shape[1] // 2), -(-shape[2] // 2), shape[3])
            x, shape = add(
                draw(st.sampled_from(("MAX_POOL_2D", "AVERAGE_POOL_2D"))),
                [x],
                sizes,
                stride_h=2,
                stride_w=2,
                filter_h=2,
                filter_w=2,
            )
        elif kind == "turn":
            order = [0, *draw(st.permutations([1, 2, 3]))]
            x, shape = add("TRANSPOSE", [x, np.array(order, I32)], [shape[axis] for axis in order])
        elif kind == "pad":
            x, shape = add(
                "PAD", [x, np.array([[0, 0], [1, 0], [0, 2], [0, 0]], I32)], (1, shape[1] + 1, shape[2] + 2, shape[3])
            )
        elif kind == "cut":
            x, shape = add(
                "SLICE",
                [x, np.array([0, 0, shape[2] // 2, 0], I32), np.array([-1, -1, -1, -1], I32)],
                (1, shape[1], shape[2] - shape[2] // 2, shape[3]),
            )
        elif kind == "join":
            x, shape = add("CONCATENATION", [x, x], (*shape[:3], 2 * shape[3]), axis=3)
        elif kind == "rows":
            x, shape = add(
                "RESHAPE", [x, np.array([-1, shape[1] * shape[2], shape[3]], I32)], (1, shape[1] * shape[2], shape[3])
            )
        elif kind == "flat":
            size = shape[1] * shape[2] * shape[3]
            x, shape = add("RESHAPE", [x, np.array([-1, size], I32)], (1, size))
        elif kind == "dense":
            x, shape = add(
                "FULLY_CONNECTED",
                [x, numbers(6, shape[-1]) / 4, numbers(6)],
                (*shape[:-1], 6),
                version=5,
                keep_num_dims=len(shape) > 2,
            )
    path = made.write(tmp_path_factory.mktemp("chain") / "m.tflite", x)
    images = numbers(3, 6, 8, 4)
    wanted, found = on_the_runtime(path, images), graph_scores(path, images)
    assert found.shape == wanted.shape and np.abs(found - wanted).max() <= 1e-5 * max(np.abs(wanted).max(), 1)
    convert(path, path.with_suffix(".onnx"), choices=Choices(any_shape=True))
    assert np.abs(RuntimeEngine(path.with_suffix(".onnx"), 1).run(images) - wanted).max() <= 1e-5 * max(
        np.abs(wanted).max(), 1
    )
