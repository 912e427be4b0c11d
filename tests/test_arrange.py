"""Graphs in the form that the runtime is fastest at: they compute the same, and the transposes are gone where they
should be."""

import json
from collections import Counter
from itertools import product

import numpy as np
import onnxruntime
import pytest
import torch
from conftest import called, capture, liven, refused
from hypothesis import given, settings
from hypothesis import strategies as st
from torch import nn

from zygal.artifact.formats import Writing, read_artifact, write_artifact
from zygal.artifact.onnx.arrange import arrange, orders
from zygal.artifact.onnx.arrange import channels as channel_orders
from zygal.artifact.onnx.arrange.biases import biases_apart
from zygal.artifact.onnx.arrange.costs import IN_TWO_STEPS, collapsed, transpose_cost
from zygal.artifact.onnx.arrange.cut import LEFT, RIGHT, Cut
from zygal.classifier.metadata import Metadata
from zygal.conversion.convert import Choices, convert
from zygal.engines.artifact import RuntimeEngine
from zygal.graph import Batch, GraphBuilder, TensorType
from zygal.graph.passes import run_passes
from zygal.graph.reference import run_graph
from zygal.sources import read_source
from zygal.sources.onnx.translate import artifact_graph

FLOAT = np.dtype("float32")


@given(st.data())
@settings(max_examples=120)
def test_the_cut_is_the_cheapest_of_all_ways_to_label(data):
    count = data.draw(st.integers(1, 6))
    costs = st.integers(0, 9)
    prefer = data.draw(st.lists(st.tuples(st.integers(0, count - 1), st.tuples(costs, costs)), max_size=6))
    groups = data.draw(
        st.lists(st.tuples(st.lists(st.integers(-2, count - 1), min_size=1, max_size=4), costs), max_size=6)
    )
    cut = Cut()
    items = [cut.item() for _ in range(count)]
    for item, pair in prefer:
        cut.prefer(items[item], pair)
    for members, cost in groups:
        cut.together([items[each] if each >= 0 else (LEFT, RIGHT)[each] for each in members], cost)

    def total(labels):
        # Members -2 and -1 are the two fixed items.
        apart = (
            cost
            for members, cost in groups
            if len({labels[each] if each >= 0 else (0, 1)[each] for each in members}) > 1
        )
        return sum(pair[labels[item]] for item, pair in prefer) + sum(apart)

    found = cut.labels()
    assert total([found[each] for each in items]) == min(map(total, product((0, 1), repeat=count)))


@given(
    st.lists(st.integers(1, 3), min_size=1, max_size=6).flatmap(
        lambda sizes: st.tuples(st.just(sizes), st.permutations(range(len(sizes))))
    )
)
def test_a_collapsed_transpose_is_the_same_transpose(case):
    sizes, order = case
    x = np.arange(np.prod(sizes)).reshape(sizes)
    fewer, shorter = collapsed(sizes, order)
    np.testing.assert_array_equal(x.transpose(order).ravel(), x.reshape(fewer or [1]).transpose(shorter or [0]).ravel())
    assert not shorter or all(second != first + 1 for first, second in zip(shorter, shorter[1:]))


def same(graph, x, opset=17, tolerance=2e-5):
    """The arranged graph, which gives what the graph gives."""
    better = arrange(graph, Writing(opset))
    wanted, found = (run_graph(each, {each.inputs[0]: x})[each.outputs[0]] for each in (graph, better))
    assert (found.shape, found.dtype) == (wanted.shape, wanted.dtype)
    assert better.types[better.outputs[0]] == graph.types[graph.outputs[0]]
    np.testing.assert_allclose(found, wanted, atol=tolerance * max(np.ptp(wanted), 1), rtol=0)
    return better


class Steps:
    """A graph grown by steps that fit what it holds: images with channels first or last, or tokens."""

    def __init__(self, channels, height, width):
        self.builder, self.chance, self.count = GraphBuilder(), np.random.default_rng(3), 0
        self.value, self.kind = self.builder.input("x", TensorType(FLOAT, (Batch(), channels, height, width))), "first"
        self.size, self.channels, self.kept = (height, width), channels, {}

    def add(self, operator, *arrays, others=(), **attributes):
        self.count += 1
        names = [
            self.builder.constant(f"c{self.count}.{place}", np.asarray(array, np.float32))
            for place, array in enumerate(arrays)
        ]
        self.value = self.builder.add(
            operator, [self.value, *others, *names], f"v{self.count}", f"layer{self.count}", **attributes
        )

    def draw(self, *shape):
        return self.chance.uniform(-1, 1, shape)

    def step(self, name):
        channels, (height, width) = self.channels, self.size
        last = {"first": 1, "last": 3, "tokens": 2}[self.kind]
        if name == "turn" and self.kind != "tokens":
            self.add("Transpose", perm=[0, 2, 3, 1] if self.kind == "first" else [0, 3, 1, 2])
            self.kind = "last" if self.kind == "first" else "first"
        elif name == "tokens" and self.kind == "last":
            self.add("Reshape", shape=[0, height * width, channels])
            self.kind = "tokens"
        elif name == "tokens" and self.kind == "first":
            self.add("Reshape", shape=[0, channels, height * width])
            self.add("Transpose", perm=[0, 2, 1])
            self.kind = "tokens"
        elif name == "image" and self.kind == "tokens":
            self.add("Transpose", perm=[0, 2, 1])
            self.add("Reshape", shape=[-1, channels, height, width])
            self.kind = "first"
        elif name == "convolution" and self.kind == "first":
            self.add("Conv", self.draw(channels, 1, 3, 3), self.draw(channels), pads=[1] * 4, group=channels)
        elif name == "pointwise" and self.kind == "first":
            self.add("Conv", self.draw(channels + 1, channels, 1, 1), self.draw(channels + 1))
            self.channels += 1
        elif name == "product" and self.kind != "first":
            self.add("MatMul", self.draw(channels, channels + 1))
            self.add("Add", self.draw(channels + 1))
            self.channels += 1
        elif name == "normalization" and self.kind != "first":
            self.add("LayerNormalization", self.draw(channels), self.draw(channels), axis=-1)
        elif name == "scale":
            self.add("Mul", self.draw(channels, 1, 1) if self.kind == "first" else self.draw(channels))
        elif name == "bend":
            self.add("Relu")
        elif name == "softmax":
            self.add("Softmax", axis=last if self.count % 2 else 1)
        elif name == "join":
            self.add("Concat", others=[self.value], axis=last)
            self.channels *= 2
        elif name == "cut":
            self.add("Slice", starts=[0], ends=[max(channels - 1, 1)], axes=[last])
            self.channels = max(channels - 1, 1)
        elif name == "windows" and self.kind == "last" and height % 2 == 0:
            self.add("Reshape", shape=[0, 2, height // 2, 1, width, channels])
            self.add("Transpose", perm=[0, 1, 3, 2, 4, 5])
            self.add("Reshape", shape=[-1, height, width, channels])
        elif name == "keep":
            self.kept[self.kind] = self.value, self.channels
        elif name == "add" and self.kept.get(self.kind, ("", 0))[1] == channels:
            self.add("Add", others=[self.kept[self.kind][0]])


NAMES = (
    "turn",
    "tokens",
    "image",
    "convolution",
    "pointwise",
    "product",
    "normalization",
    "scale",
    "bend",
    "softmax",
    "join",
    "cut",
    "windows",
    "keep",
    "add",
)


@pytest.mark.slow
@given(
    st.lists(st.sampled_from(NAMES), min_size=4, max_size=18),
    st.sampled_from((1, 2, 3, 5, 17)),
    st.sampled_from([(4, 4), (6, 4), (1, 5)]),
    st.booleans(),
)
@settings(max_examples=300)
def test_whatever_graph_is_arranged_computes_the_same(names, channels, size, readily):
    steps = Steps(channels, *size)
    for name in names:
        steps.step(name)
    graph = run_passes(steps.builder.finish([steps.value]))
    if graph.nodes:
        # Small tensors are hardly ever worth a change, unless it costs nothing.
        unwilling = (orders.RELUCTANCE, channel_orders.STARTED)
        orders.RELUCTANCE, channel_orders.STARTED = (0, 0) if readily else unwilling
        try:
            better = same(
                graph, np.random.default_rng(1).standard_normal((1, channels, *size), np.float32), tolerance=2e-4
            )
        finally:
            orders.RELUCTANCE, channel_orders.STARTED = unwilling
        assert better.types[better.outputs[0]].shape[0] == graph.types[graph.outputs[0]].shape[0]
        for batch in (2, 3):
            same(
                graph,
                np.random.default_rng(batch).standard_normal((batch, channels, *size), np.float32),
                tolerance=2e-4,
            )


class Heads(nn.Module):
    """Attention over patches, with all that usually stands between its two products."""

    def __init__(self, joint=True, bias=True, scale_first=False, addend=False, windows=False):
        super().__init__()
        self.patches, self.norm, self.head = nn.Conv2d(3, 24, 4, 4), nn.LayerNorm(24), nn.Linear(24, 5)
        self.qkv, self.three, self.project = (
            nn.Linear(24, 72, bias),
            nn.ModuleList(nn.Linear(24, 24, bias) for _ in range(3)),
            nn.Linear(24, 24),
        )
        self.joint, self.scale_first, self.windows = joint, scale_first, windows
        self.addend = nn.Parameter(torch.randn(3, 16 if windows else 64, 16 if windows else 64)) if addend else None

    def forward(self, x):
        x = self.patches(x)
        if self.windows:
            x = x.reshape(-1, 24, 2, 4, 2, 4).permute(0, 2, 4, 3, 5, 1).reshape(-1, 16, 24)
        else:
            x = x.flatten(2).transpose(1, 2)
        y, tokens = self.norm(x), x.shape[1]
        if self.joint:
            q, k, v = self.qkv(y).reshape(-1, tokens, 3, 3, 8).permute(2, 0, 3, 1, 4).unbind(0)
        else:
            q, k, v = (layer(y).reshape(-1, tokens, 3, 8).transpose(1, 2) for layer in self.three)
        scores = (q * 8**-0.5) @ k.transpose(-2, -1) if self.scale_first else q @ k.transpose(-2, -1) / 8**0.5
        if self.addend is not None:
            scores = scores + self.addend
        x = x + self.project((scores.softmax(-1) @ v).transpose(1, 2).reshape(-1, tokens, 24))
        return self.head(x.reshape(-1, 64, 24).mean(1))


@pytest.mark.alike
@pytest.mark.parametrize(
    "case",
    [
        {},
        {"joint": False},
        {"bias": False},
        {"scale_first": True},
        {"addend": True},
        {"windows": True},
        {"windows": True, "addend": True},
    ],
    ids=str,
)
@pytest.mark.parametrize("opset", [17, 23])
def test_attention_becomes_products_without_transposes_or_one_operator(case, opset, tmp_path):
    torch.manual_seed(1)
    module = liven(Heads(**case))
    capture(module, tmp_path / "m.pt2")
    found = convert(tmp_path / "m.pt2", tmp_path / "m.onnx", choices=Choices(opset=opset))
    engine = RuntimeEngine(tmp_path / "m.onnx", 1)
    for batch in (1, 5):
        x = torch.randn(batch, 3, 32, 32)
        with torch.no_grad():
            wanted = module(x).numpy()
        assert np.abs(engine.run(x.numpy()) - wanted).max() < 1e-5 * np.ptp(wanted)
    assert found.operators.get("Attention", 0) == (opset >= 23)
    assert found.operators["MatMul"] == (4 if opset >= 23 else 6)
    joined = optimized(tmp_path / "m.onnx", tmp_path)
    # What is left by the runtime: into tokens, the result of attention, and windows back.
    assert joined["Transpose"] <= (2 if opset >= 23 else 4) and "Split" not in joined and "Slice" not in joined


def optimized(path, folder):
    """The operators that the runtime has left after joining what it can."""
    import onnx

    settings = onnxruntime.SessionOptions()
    settings.log_severity_level, settings.optimized_model_filepath = 3, str(folder / "optimized.onnx")
    onnxruntime.InferenceSession(str(path), settings, providers=["CPUExecutionProvider"])
    return Counter(node.op_type for node in onnx.load(folder / "optimized.onnx").graph.node)


def test_what_else_reads_a_query_keeps_attention_as_it_was(tmp_path):
    class Shared(Heads):
        def forward(self, x):
            x = self.patches(x).flatten(2).transpose(1, 2)
            y = self.qkv(self.norm(x))
            q, k, v = y.reshape(-1, 64, 3, 3, 8).permute(2, 0, 3, 1, 4).unbind(0)
            z = ((q @ k.transpose(-2, -1)).softmax(-1) @ v).transpose(1, 2).reshape(-1, 64, 24)
            return self.head((z + y[..., :24]).mean(1))

    module = liven(Shared())
    with read_source(capture(module, tmp_path / "m.pt2")) as source:
        graph = run_passes(source.graph)
        better = same(graph, np.random.default_rng(1).standard_normal((2, 3, 32, 32), np.float32))
    products = sum(node.operator == "MatMul" for node in graph.nodes)
    assert sum(node.operator == "MatMul" for node in better.nodes) == products


class LargeKernels(nn.Module):
    """Blocks of a depthwise convolution, a normalisation over the channels and two products, as tensors with channels
    last have them."""

    def __init__(self, blocks=3, width=16):
        super().__init__()
        self.stem, self.head = nn.Conv2d(3, width, 4, 4), nn.Linear(width, 5)
        self.blocks = nn.ModuleList(
            nn.ModuleDict(
                {
                    "depth": nn.Conv2d(width, width, 3, 1, 1, groups=width),
                    "norm": nn.LayerNorm(width),
                    "up": nn.Linear(width, 4 * width),
                    "down": nn.Linear(4 * width, width),
                }
            )
            for _ in range(blocks)
        )

    def forward(self, x):
        x = self.stem(x)
        for block in self.blocks:
            y = block["norm"](block["depth"](x).permute(0, 2, 3, 1))
            x = x + block["down"](nn.functional.gelu(block["up"](y))).permute(0, 3, 1, 2)
        return self.head(x.mean((2, 3)))


def test_blocks_with_channels_last_become_convolutions_without_a_transpose(tmp_path):
    module = liven(LargeKernels())
    capture(module, tmp_path / "m.pt2", (3, 96, 96))
    found = convert(tmp_path / "m.pt2", tmp_path / "m.onnx")
    assert (
        "Transpose" not in found.operators
        and "LayerNormalization" not in found.operators
        and found.operators["Conv"] == 10
    )
    # The normalisation's factor and shift are in the weights behind it, the biases in the convolutions.
    assert "BatchNormalization" not in found.operators
    x = torch.randn(3, 3, 96, 96)
    with torch.no_grad():
        wanted = module(x).numpy()
    assert np.abs(RuntimeEngine(tmp_path / "m.onnx", 1).run(x.numpy()) - wanted).max() < 1e-5 * np.ptp(wanted)


def test_a_slow_transpose_is_done_in_two_steps(tmp_path):
    builder = GraphBuilder()
    builder.input("x", TensorType(FLOAT, (Batch(), 96, 8, 7, 8, 7)))
    builder.add("Transpose", ["x"], "y", perm=[0, 2, 4, 3, 5, 1])
    graph = builder.finish(["y"])
    better = same(graph, np.random.default_rng(1).standard_normal((2, 96, 8, 7, 8, 7), np.float32))
    orders = [node.attributes["perm"] for node in better.nodes if node.operator == "Transpose"]
    assert len(orders) == 2
    assert transpose_cost((2, 96, 8, 7, 8, 7), orders[0]) < IN_TWO_STEPS and orders[1][-2:] == [5, 6]
    # The runtime does not join them again.
    write_artifact(better, tmp_path / "m.onnx", Metadata())
    assert optimized(tmp_path / "m.onnx", tmp_path)["Transpose"] == 2


@pytest.mark.parametrize("writing", [Writing(), Writing(weights_beside=True)], ids=["inside", "beside"])
def test_weights_beside_the_artifact_are_read_as_those_inside(writing, tmp_path):
    builder = GraphBuilder()
    value = builder.input("image", TensorType(FLOAT, (Batch(), 64)))
    weight = np.random.default_rng(1).standard_normal((64, 64)).astype(np.float32)
    builder.add("Gemm", [value, builder.constant("w", weight)], "scores", transB=1)
    path = tmp_path / "m.onnx"
    written = write_artifact(builder.finish(["scores"]), path, Metadata(), writing)
    x = np.random.default_rng(2).standard_normal((3, 64)).astype(np.float32)
    np.testing.assert_allclose(RuntimeEngine(path, 1).run(x), x @ weight.T, rtol=1e-4, atol=1e-4)
    assert written.weights == (tmp_path / "m.onnx.weights" if writing.weights_beside else None)
    assert (path.stat().st_size < 2000) == writing.weights_beside


def test_biases_are_rows_of_the_weights_where_that_is_less_and_can_be_taken_apart_again(tmp_path):
    class Parts(nn.Module):
        def __init__(self):
            super().__init__()
            self.norm, self.wide, self.back, self.gate = (
                nn.LayerNorm(24),
                nn.Linear(24, 96),
                nn.Linear(96, 24),
                nn.Linear(24, 24, bias=False),
            )

        def forward(self, x):
            y = self.norm(x.flatten(2).transpose(1, 2))
            return (self.back(nn.functional.gelu(self.wide(y))) * self.gate(y)).mean(1)

    module = liven(Parts())
    with read_source(capture(module, tmp_path / "m.pt2", (24, 8, 8))) as source:
        graph, x = run_passes(source.graph), np.random.default_rng(2).standard_normal((3, 24, 8, 8), np.float32)
        better = same(graph, x)
        operators = Counter(node.operator for node in better.nodes)
        # Two products share the channel of ones; the way back is wider than what it makes, so that its bias stays.
        assert operators["Pad"] == 1 and sorted(
            better.constants[node.inputs[1]].shape for node in better.nodes if node.operator == "MatMul"
        ) == [(25, 24), (25, 96), (96, 24)]
        apart = biases_apart(better)
        assert "Pad" not in {node.operator for node in apart.nodes}
        np.testing.assert_allclose(
            run_graph(apart, {apart.inputs[0]: x})[apart.outputs[0]],
            run_graph(graph, {graph.inputs[0]: x})[graph.outputs[0]],
            atol=2e-5,
        )


def test_a_class_token_that_is_as_often_as_the_batch_says_is_read_back(tmp_path):
    class Token(nn.Module):
        def __init__(self):
            super().__init__()
            self.token, self.head = nn.Parameter(torch.randn(1, 1, 12)), nn.Linear(12, 5)

        def forward(self, x):
            x = torch.cat([self.token.expand(x.shape[0], -1, -1), x.flatten(2)], 1)
            return self.head(x.mean(1))

    module = liven(Token())
    convert(capture(module, tmp_path / "m.pt2", (3, 3, 4)), tmp_path / "m.onnx")
    graph, x = artifact_graph(tmp_path / "m.onnx"), np.random.default_rng(2).standard_normal((4, 3, 3, 4), np.float32)
    with torch.no_grad():
        np.testing.assert_allclose(
            run_graph(graph, {"image": x})["scores"], module(torch.from_numpy(x)).numpy(), atol=1e-5
        )


def test_an_artifact_with_its_weights_beside_counts_them_and_is_not_packed_as_one_file(shipped, tmp_path):
    options = ("--inlet", shipped / "channel_marks.inlet.toml", "--labels", shipped / "labels.txt")
    done = called(
        "convert",
        shipped / "channel_marks.pt2",
        "-o",
        "beside.onnx",
        *options,
        "--weights-beside",
        "--json",
        "beside.json",
        cwd=tmp_path,
    )
    assert done.returncode == 0 and "beside.onnx.weights" in done.stdout
    both = sum((tmp_path / name).stat().st_size for name in ("beside.onnx", "beside.onnx.weights"))
    assert (
        json.loads((tmp_path / "beside.json").read_text())["artifact_bytes"]
        == both
        == read_artifact(tmp_path / "beside.onnx").size_bytes
    )
    assert (
        called(
            "match",
            "beside.onnx",
            "--witness",
            shipped / "channel_marks.witness",
            "--images",
            shipped / "reference",
            cwd=tmp_path,
        ).returncode
        == 0
    )
    refused(
        called("pack", "beside.onnx", "--images", shipped / "reference", "-o", "b.zip", cwd=tmp_path),
        "beside.onnx.weights",
        "--weights-beside",
    )
    # A second file of that name that is not the weights of this artifact is not replaced.
    (tmp_path / "other.onnx.weights").write_text("notes")
    refused(
        called("convert", shipped / "channel_marks.pt2", "-o", "other.onnx", "--weights-beside", cwd=tmp_path),
        "other.onnx.weights",
        "--overwrite",
    )
    refused(
        called("convert", shipped / "channel_marks.pt2", "-o", "m.tflite", "--weights-beside", cwd=tmp_path),
        "--weights-beside does not apply",
    )
    (tmp_path / "beside.onnx.weights").unlink()
    refused(called("survey", "beside.onnx", cwd=tmp_path), "beside.onnx.weights", "copy both")
