"""Numbers that were wrong in a few places only: nearest resizes, small results, whole numbers beyond 2^53, types that a
rewrite changed."""

import warnings

import numpy as np
import onnx
import pytest
import torch
from conftest import capture, differences
from hypothesis import given
from hypothesis import strategies as st
from onnx import TensorProto, helper
from onnx.backend.test.case.node import collect_testcases
from onnx.reference import ReferenceEvaluator
from test_families import Plain

from zygal.artifact.formats import read_artifact
from zygal.artifact.onnx.spelling import spelling_of
from zygal.conversion.convert import Choices, convert
from zygal.engines.artifact import open_engine
from zygal.errors import GraphError, SourceError, ZygalError
from zygal.graph import Batch, GraphBuilder, TensorType
from zygal.graph.arithmetic import COUNTS
from zygal.graph.contents import _divided
from zygal.graph.ops import known_operators, operator_named
from zygal.graph.passes import run_passes
from zygal.graph.reference import run_graph
from zygal.sources import read_source
from zygal.sources.onnx.translate import graph_of_model
from zygal.sources.pytorch.table_resampling import nearest_places
from zygal.sources.recipes import accurate

FLOAT = np.dtype("float32")


def emitter():
    """The least that recipes need, on a builder of its own."""
    return Plain(GraphBuilder())


# Nearest resizes: sizes and their neighbours, with those that were wrong; benchmarks/nearest.py sweeps all up to 512.

SIZES = [(size, out) for size in (1, 2, 3, 5, 7, 16, 41, 56, 64, 83, 112, 192, 224) for out in range(1, 260)] + [
    (112, 96),
    (224, 192),
    (224, 384),
    (384, 512),
]


@pytest.mark.parametrize("exact", [False, True])
def test_nearest_resizes_pick_the_frameworks_pixels_or_are_refused(exact):
    mode, refused = ("nearest-exact" if exact else "nearest"), 0
    for size, out in SIZES:
        places = nearest_places(size, out, None, np.float32, exact)
        if places is None:
            refused += 1
            continue
        row = torch.arange(size, dtype=torch.float32).reshape(1, 1, 1, size)
        wide = row.expand(1, 8, 2, size).contiguous(memory_format=torch.channels_last)
        for image in (row, wide):
            found = torch.nn.functional.interpolate(image, size=(1, out), mode=mode)[0, 0, 0].numpy().astype(int)
            assert np.array_equal(places, found), (size, out)
    assert refused <= (60 if exact else 0)


@pytest.mark.parametrize(
    "grid, more",
    [("asymmetric", {}), ("half_pixel", {"half_pixel_centers": True}), ("align_corners", {"align_corners": True})],
)
def test_nearest_resizes_pick_tensorflows_pixels(grid, more):
    tensorflow = pytest.importorskip("tensorflow")
    from zygal.sources.tensorflow.table_resizing import nearest_places as places

    for size, out in SIZES[::3] + [(2, 83), (2, 189), (2, 195)]:
        row = np.arange(size, dtype=np.float32).reshape(1, 1, size, 1)
        found = (
            tensorflow.raw_ops.ResizeNearestNeighbor(images=row, size=[1, out], **more).numpy()[0, 0, :, 0].astype(int)
        )
        assert np.array_equal(places(size, out, grid), found), (size, out)


class Resized(torch.nn.Module):
    def __init__(self, mode, **size):
        super().__init__()
        self.mode, self.size = mode, size

    def forward(self, x):
        return torch.nn.functional.interpolate(x, mode=self.mode, **self.size).flatten(1)[:, :64]


@pytest.mark.parametrize(
    "mode, size",
    [
        ("nearest", {"size": (27, 96)}),
        ("nearest-exact", {"size": (27, 41)}),
        ("nearest", {"scale_factor": 1.7}),
        ("nearest", {"scale_factor": 3.0}),
    ],
)
def test_a_nearest_resize_converts_and_keeps_infinity(tmp_path, mode, size):
    path = capture(Resized(mode, **size), tmp_path / "m.pt2", (2, 32, 32))
    x = np.random.default_rng(0).standard_normal((2, 2, 32, 32)).astype(np.float32)
    x[:, :, ::3, 1::2] = np.inf
    convert(path, tmp_path / "m.onnx", choices=Choices())
    found = open_engine(read_artifact(tmp_path / "m.onnx")).run(x)
    assert np.array_equal(found, Resized(mode, **size)(torch.from_numpy(x)).numpy())
    with read_source(path) as source:
        graph = run_passes(source.graph)
        assert np.array_equal(run_graph(graph, {graph.inputs[0]: x})[graph.outputs[0]], found)


def test_a_pair_on_which_the_framework_disagrees_with_itself_is_refused(tmp_path):
    path = capture(Resized("nearest-exact", size=(1, 41)), tmp_path / "m.pt2", (2, 1, 2))
    with pytest.raises(SourceError, match="resizes 2 to 41 by nearest-exact"):
        convert(path, tmp_path / "m.onnx", choices=Choices())


@pytest.mark.parametrize("grid", ["half_pixel", "asymmetric", "align_corners", "pytorch_half_pixel"])
@pytest.mark.parametrize("rounding", ["round_prefer_floor", "round_prefer_ceil", "floor", "ceil"])
def test_every_rounding_of_a_nearest_resize_is_the_standards(grid, rounding):
    node = helper.make_node(
        "Resize", ["x", "", "s"], ["y"], mode="nearest", coordinate_transformation_mode=grid, nearest_mode=rounding
    )
    scales = onnx.numpy_helper.from_array(np.array([1, 1, 3, 2], np.float32), "s")
    body = helper.make_graph(
        [node],
        "g",
        [helper.make_tensor_value_info("x", TensorProto.FLOAT, [1, 2, 4, 5])],
        [helper.make_tensor_value_info("y", TensorProto.FLOAT, [1, 2, 12, 10])],
        [scales],
    )
    model = helper.make_model(body, opset_imports=[helper.make_opsetid("", 17)])
    x = np.arange(40, dtype=np.float32).reshape(1, 2, 4, 5)
    (wanted,) = ReferenceEvaluator(model).run(None, {"x": x})
    found = operator_named("Resize").compute(
        [x],
        operator_named("Resize").complete(
            {
                "scales": [1, 1, 3, 2],
                "mode": "nearest",
                "coordinate_transformation_mode": grid,
                "nearest_mode": rounding,
            }
        ),
    )[0]
    assert np.array_equal(found, wanted)


# Small results, and zeros


SMALL = np.array(
    [
        0.0,
        -0.0,
        1e-30,
        -1e-30,
        1e-8,
        -1e-8,
        3e-5,
        -3e-5,
        0.3,
        -0.3,
        0.9,
        1.0,
        -0.999,
        2.0,
        9.0,
        80.0,
        -80.0,
        np.inf,
        -np.inf,
        np.nan,
    ],
    np.float32,
)


@pytest.mark.parametrize(
    "recipe, function",
    [("exponential_minus_one", torch.expm1), ("log_one_plus", torch.log1p), ("complementary_error", torch.erfc)],
)
def test_small_results_keep_their_digits(recipe, function):
    emit = emitter()
    builder = emit._builder
    x = builder.input("x", TensorType(FLOAT, (Batch(),)))
    graph = builder.finish([getattr(accurate, recipe)(emit, x)])
    with np.errstate(all="ignore"):
        (found,) = run_graph(graph, {"x": SMALL}).values()
    wanted = function(torch.from_numpy(SMALL).double()).numpy()
    np.testing.assert_allclose(found, wanted, rtol=6e-6, atol=1e-37)
    assert found.dtype == FLOAT


def test_angles_at_zeros_and_infinities_are_the_standards():
    values = np.array([0.0, -0.0, 1.0, -1.0, np.inf, -np.inf, 1e-30], np.float32)
    rise, run = (each.reshape(-1).copy() for each in np.meshgrid(values, values))
    emit = emitter()
    names = [emit._builder.input(name, TensorType(FLOAT, (Batch(),))) for name in ("rise", "run")]
    graph = emit._builder.finish([accurate.angle(emit, *names)])
    with np.errstate(all="ignore"):
        (found,) = run_graph(graph, {"rise": rise, "run": run}).values()
    wanted = np.arctan2(rise, run)
    np.testing.assert_allclose(found, wanted, rtol=1e-6)
    assert np.array_equal(np.signbit(found), np.signbit(wanted))


@given(st.integers(-(2**63), 2**63 - 1), st.integers(-(2**63), 2**63 - 1).filter(bool))
def test_whole_numbers_are_divided_exactly(left, right):
    wanted = abs(left) // abs(right) * (1 if (left < 0) == (right < 0) else -1)
    if -(2**63) <= wanted < 2**63:
        with np.errstate(all="ignore"):
            (found,) = operator_named("Div").compute([np.array([left]), np.array([right])], {})
        assert found.item() == wanted and found.dtype == np.int64
    assert _divided(left, right) == wanted


@pytest.mark.parametrize("dtype", ["int8", "uint8", "int64", "float32"])
@pytest.mark.parametrize("largest", [0, 1])
def test_the_largest_of_small_integers_are_found(dtype, largest):
    low, high = (-5, 5) if dtype == "float32" else (np.iinfo(dtype).min, np.iinfo(dtype).max)
    x = np.array([[low, high, 0, high, low, 1]], dtype)
    values, places = operator_named("TopK").compute(
        [x], operator_named("TopK").complete({"k": 6, "axis": 1, "largest": largest})
    )
    wanted = torch.from_numpy(x).sort(dim=1, descending=bool(largest), stable=True)
    assert np.array_equal(values, wanted.values.numpy()) and np.array_equal(places, wanted.indices.numpy())


def test_exclusive_sums_are_shifted_and_not_taken_off_again():
    x = np.array([[1e8, 1.0, np.inf, 2.0]], np.float32)
    for reverse in (0, 1):
        (found,) = operator_named("CumSum").compute([x], {"axis": -1, "exclusive": 1, "reverse": reverse})
        wanted = [[0, 1e8, 1e8, np.inf]] if not reverse else [[np.inf, np.inf, 2.0, 0]]
        assert np.array_equal(found, np.array(wanted, np.float32))


# Types


def test_operators_want_one_dtype_where_the_standard_does():
    """Float64 weights with float32 inputs, whatever the operator."""
    checked = 0
    for name, operator in known_operators().items():
        if name == "If":
            continue
        schema = onnx.defs.get_schema(spelling_of(name).name or name, max(17, spelling_of(name).since))
        slots = {slot.place for slot in spelling_of(name).slots.values()}
        inputs = [each for place, each in enumerate(schema.inputs) if place not in slots]
        variadic = bool(inputs) and inputs[-1].option == onnx.defs.OpSchema.FormalParameterOption.Variadic
        inputs = inputs + inputs[-1:] if variadic else inputs
        for place in range(1, len(inputs)):
            first = next(at for at, each in enumerate(inputs) if each.type_str == inputs[place].type_str)
            kinds = sorted(operator.accepts[min(first, len(operator.accepts) - 1)])
            if first == place or len(kinds) < 2:
                continue
            given = [None] * len(inputs)
            given[first], given[place] = (TensorType(np.dtype(kind), (2, 2)) for kind in kinds[:2])
            with pytest.raises(ValueError, match="different dtypes|but it takes"):
                operator.check_dtypes(given)
                pytest.fail(f"{name} takes {kinds[:2]} as inputs {first} and {place}")
            checked += 1
    assert checked >= 45


def built(*steps, shape=(Batch(), 1, 4, 4), dtype=FLOAT):
    builder = GraphBuilder()
    last = builder.input("x", TensorType(dtype, shape))
    for number, (operator, constants, attributes) in enumerate(steps):
        names = [builder.constant(f"c{number}", array) for array in constants]
        last = builder.add(operator, [last, *names], f"v{number}", "layer", **attributes)
    return builder.finish([last])


@pytest.mark.parametrize(
    "graph",
    [
        built(("Mul", [np.ones((1, 3, 1, 1), np.float32) * 2], {}), ("Add", [np.ones((1, 3, 1, 1), np.float32)], {})),
        built(("Add", [np.zeros((1, 1, 10), np.float32)], {}), shape=(Batch(), 10)),
        built(("Transpose", [], {}), ("Transpose", [], {}), shape=(2, 3, 4)),
        built(("Transpose", [], {}), ("Transpose", [], {"perm": [0, 2, 1]}), shape=(2, 3, 4)),
        built(
            ("Add", [np.array(3, np.int64)], {}),
            ("Clip", [], {"min": 0, "max": 6}),
            ("Div", [np.array(6, np.int64)], {}),
            dtype=np.dtype("int64"),
            shape=(Batch(), 4),
        ),
        built(
            ("Gemm", [np.ones((4, 4), np.float32)], {"transB": 1}),
            ("Add", [np.ones((1, 1, 4), np.float32)], {}),
            shape=(Batch(), 4),
        ),
        built(("Conv", [np.ones((2, 1, 1, 1), np.float32)], {}), ("Add", [np.ones((1, 1, 2, 1, 1), np.float32)], {})),
    ],
)
def test_a_rewrite_changes_no_type(graph):
    made = run_passes(graph)
    (before,), (after,) = graph.outputs, made.outputs
    assert made.types[after] == graph.types[before]
    sizes = [size if isinstance(size, int) else 2 for size in graph.types["x"].shape]
    x = (np.random.default_rng(0).standard_normal(sizes) * 4).astype(graph.types["x"].dtype)
    np.testing.assert_allclose(
        run_graph(made, {"x": x})[after], run_graph(graph, {"x": x})[before], rtol=1e-5, atol=1e-6
    )


# The standard's own cases of every operator that is known


@pytest.mark.slow
def test_whatever_the_standard_says_is_right_or_refused():
    """Every case of one known operator: its own result, or a sentence. Nothing is left out beforehand."""
    right = refused = 0
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        cases = [
            each
            for each in collect_testcases(None)
            if each.model and len(each.model.graph.node) == 1 and each.model.graph.node[0].op_type in known_operators()
        ]
        for case in cases:
            for given_inputs, wanted in case.data_sets:
                model = onnx.ModelProto.FromString(case.model.SerializeToString())
                arrays = [
                    onnx.numpy_helper.to_array(each) if isinstance(each, TensorProto) else each for each in given_inputs
                ]
                names = [info.name for info in model.graph.input]
                for name, array in zip(names, arrays):
                    if isinstance(array, np.ndarray) and (array.dtype.kind == "i" or array.ndim == 0):
                        model.graph.initializer.append(onnx.numpy_helper.from_array(np.asarray(array), name))
                held = {tensor.name for tensor in model.graph.initializer}
                try:
                    graph = graph_of_model(model, case.name)
                    found = run_graph(graph, {name: array for name, array in zip(names, arrays) if name not in held})
                except ZygalError:
                    refused += 1
                    continue
                right += 1
                for array, expected in zip(found.values(), wanted):
                    expected = (
                        onnx.numpy_helper.to_array(expected)
                        if isinstance(expected, TensorProto)
                        else np.asarray(expected)
                    )
                    assert array.dtype == expected.dtype and array.shape == expected.shape, case.name
                    # Sums of float16 depend on their order by two units in the last place.
                    least = 2e-3 if array.dtype == np.float16 else 1e-6
                    np.testing.assert_allclose(
                        array.astype(float),
                        expected.astype(float),
                        rtol=case.rtol,
                        atol=max(case.atol, least),
                        err_msg=case.name,
                    )
    assert right >= 490 and refused >= 300


def test_recurrent_layers_refuse_what_they_do_not_compute():
    lstm, x = operator_named("LSTM"), TensorType(FLOAT, (5, 2, 3))
    weights = [TensorType(FLOAT, shape) for shape in ((1, 16, 3), (1, 16, 4), (1, 32))]
    peepholes = [x, *weights, None, None, None, TensorType(FLOAT, (1, 12))]
    with pytest.raises(ValueError, match="peepholes"):
        lstm.infer(peepholes, lstm.complete({"hidden_size": 4}))
    for operator, attributes, words in (
        ("LSTM", {"direction": "sideways"}, "sideways"),
        ("RNN", {"activations": ["Sigmoid"]}, "sigmoid"),
    ):
        known = operator_named(operator)
        rows = {"LSTM": 16, "RNN": 4}[operator]
        given_types = [x, TensorType(FLOAT, (1, rows, 3)), TensorType(FLOAT, (1, rows, 4))]
        with pytest.raises(ValueError, match=words):
            known.infer(given_types, known.complete({"hidden_size": 4, **attributes}))


# Counting


def test_attention_and_recurrent_layers_are_counted():
    by_heads = COUNTS["Attention"]({}, (1, 4, 50, 8), (1, 4, 50, 8), (1, 4, 50, 8))
    together = COUNTS["Attention"]({}, (1, 50, 32), (1, 50, 32), (1, 50, 32))
    assert by_heads == together == 2 * 50 * 50 * 32
    # Four gates, each a sum over 3 inputs and 4 states, at 5 steps, in two directions.
    assert COUNTS["LSTM"]({}, (5, 1, 3), (2, 16, 3), (5, 2, 1, 4)) == 5 * 2 * 16 * (3 + 4)


# Sources


class Counting(torch.nn.Module):
    """Counts the images that it saw, which the scores do not need, and ends in a pooling wider than its image."""

    def __init__(self):
        super().__init__()
        self.features = torch.nn.Conv2d(3, 8, 3, stride=4, padding=1)
        self.pool = torch.nn.AvgPool2d(12, stride=12, ceil_mode=True)
        self.head = torch.nn.Linear(8, 4)
        self.register_buffer("seen", torch.zeros((), dtype=torch.long))

    def forward(self, x):
        self.seen += x.shape[0]
        return self.head(self.pool(torch.relu(self.features(x))).flatten(1))


def test_what_the_scores_do_not_need_and_a_wide_pooling_convert(tmp_path):
    path = capture(Counting().eval(), tmp_path / "m.pt2")
    assert max(differences(path, tmp_path, _captured(path))) < 1e-6


def _captured(path):
    return torch.export.load(path).module()


class Tokens(torch.nn.Module):
    """A class token and registers, joined one after the other or at once, before and behind the positions."""

    def __init__(self, how):
        super().__init__()
        self.how, self.patches, self.head = how, torch.nn.Conv2d(3, 16, 8, 8), torch.nn.Linear(16, 5)
        self.token, self.registers = (
            torch.nn.Parameter(torch.randn(1, 1, 16)),
            torch.nn.Parameter(torch.randn(1, 4, 16)),
        )

    def forward(self, x):
        count = x.shape[0]
        t, token, registers = (
            self.patches(x).flatten(2).transpose(1, 2),
            self.token.expand(count, -1, -1),
            self.registers.expand(count, -1, -1),
        )
        if self.how == "between":
            t = torch.cat([token, t], 1)
            t = torch.cat([t[:, :1], registers, t[:, 1:]], 1)
        elif self.how == "first":
            t = torch.cat([torch.cat([token, registers], 1), t], 1)
        else:
            t = torch.cat([token, t, registers], 1)
        return self.head((torch.softmax(t @ t.transpose(1, 2), -1) @ t)[:, 0])


@pytest.mark.parametrize("how", ["between", "first", "around"])
def test_a_flatbuffer_with_tokens_takes_any_batch(tmp_path, how):
    pytest.importorskip("ai_edge_litert")
    torch.manual_seed(0)
    model = Tokens(how).eval()
    convert(capture(model, tmp_path / "m.pt2"), tmp_path / "m.tflite", choices=Choices())
    engine = open_engine(read_artifact(tmp_path / "m.tflite"))
    torch.manual_seed(0)
    model = _captured(tmp_path / "m.pt2")
    for batch in (1, 3, 8, 2):
        x = torch.randn(batch, 3, 32, 32)
        assert np.abs(engine.run(x.numpy()) - model(x).detach().numpy()).max() < 1e-5
    with read_source(tmp_path / "m.tflite") as source:
        assert source.graph.outputs


class Joined(torch.nn.Module):
    def __init__(self):
        super().__init__()
        self.first, self.second, self.head = (
            torch.nn.Conv2d(3, 4, 3),
            torch.nn.Conv2d(4, 4, 3, padding=1),
            torch.nn.Linear(8, 3),
        )

    def forward(self, x):
        features = [self.first(x)]
        features.append(self.second(torch.cat(features, 1)))
        return self.head(torch.cat(features, 1).mean((2, 3)))


def test_a_flatbuffer_that_joins_one_thing_is_read_back(tmp_path):
    convert(capture(Joined().eval(), tmp_path / "m.pt2"), tmp_path / "m.tflite", choices=Choices())
    with read_source(tmp_path / "m.tflite") as source:
        assert source.graph.outputs


# Time and memory by counting, not by the clock


class Counted(dict):
    asked = 0

    def __contains__(self, key):
        Counted.asked += 1
        return super().__contains__(key)


def test_names_are_found_in_time_linear_in_the_graph():
    asked = {}
    for count in (500, 2000):
        builder, Counted.asked = GraphBuilder(), 0
        builder.types = Counted()
        last = builder.input("x", TensorType(FLOAT, (Batch(), 4)))
        for number in range(count):
            constant = builder.constant("layer.number", np.full(4, number, np.float32))
            last = builder.add("Add", (last, constant), builder.free_name("layer.add"), "layer")
        assert len(builder.finish([last]).nodes) == count
        asked[count] = Counted.asked
    assert asked[2000] <= 4.5 * asked[500]


@pytest.mark.parametrize(
    "steps",
    [
        [("Tile", [], {"repeats": [2**29]})],
        [("Expand", [np.array([2**31])], {"sizes": (2**31,)})],
        [("Tile", [], {"repeats": [2**12]})] * 4,
        [("ReduceSum", [], {"axes": [0] * 1000})],
    ],
)
def test_what_constants_alone_make_is_bounded_before_it_is_made(steps):
    emit = emitter()
    with pytest.raises(GraphError):
        value = emit.constant(np.ones(4, np.float32) if steps[0][0] != "Expand" else np.ones(1, np.float32), "c")
        for operator, arrays, attributes in steps:
            value = emit.step(operator, value, *(emit.constant(each, "s") for each in arrays), **attributes)


def test_labels_that_a_list_of_places_orders_anew_are_in_that_order():
    tensorflow = pytest.importorskip("tensorflow")
    from zygal.sources.tensorflow.site import Label, Texts
    from zygal.sources.tensorflow.table_indexing import gather

    class Call:
        kind = "Gather"

        def __init__(self, places):
            self.places = places

        def attribute(self, name, default=None):
            return default

        def given(self, place):
            return Texts(np.array([b"a", b"b", b"c"], object))

        def known(self, place):
            return self.places

    assert (
        gather(Call(np.array([2, 0, 1]))).array.tolist() == [b"c", b"a", b"b"]
        and isinstance(gather(Call(None)), Label)
        and tensorflow
    )
