"""Operators that are made of several, by their formulas in NumPy: as constants, in the reference engine, and on the
runtime."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import special

from zygal.artifact.formats import write_artifact
from zygal.classifier.metadata import Metadata
from zygal.engines.artifact import RuntimeEngine
from zygal.errors import SourceError
from zygal.graph import Batch, GraphBuilder, TensorType
from zygal.graph.ops.windows import same_pads
from zygal.graph.passes import run_passes
from zygal.graph.passes.normalizations import join_layer_normalizations
from zygal.graph.reference import run_graph
from zygal.sources.layouts import LaidOut, View
from zygal.sources.layouts.arranging import flattened, permuted, product
from zygal.sources.recipes import activations, arranging, attention, normalisation, products, recurrent, windows

FLOAT = np.dtype(np.float32)


class Emit(LaidOut):
    def __init__(self, builder):
        super().__init__(builder, "step", "layer")

    def refuse(self, why):
        raise SourceError(f"layer {why}")


def made(recipe, x, tmp_path=None):
    """What a recipe makes of an array whose first axis is the batch: by the reference engine, and on the runtime if
    asked for."""
    builder = GraphBuilder()
    emit = Emit(builder)
    name = builder.input("image", TensorType(FLOAT, (Batch(), *x.shape[1:])))
    graph = builder.finish([recipe(emit, name)])
    found = [run_graph(each, {"image": x})[each.outputs[0]] for each in (graph, run_passes(graph))]
    if tmp_path is not None:
        write_artifact(run_passes(graph).renamed({graph.outputs[0]: "scores"}), tmp_path / "m.onnx", Metadata())
        found.append(RuntimeEngine(tmp_path / "m.onnx").run(x))
    for each in found[1:]:
        assert each.shape == found[0].shape and np.allclose(each, found[0], rtol=1e-5, atol=1e-5)
    return found[0]


def sigmoid(x):
    return special.expit(x)


def softplus(x):
    return np.logaddexp(x, 0)


ROWS = np.concatenate([np.linspace(-6, 6, 47), [0.0]]).astype(np.float32).reshape(2, 24)
FORMULAS = {
    "gelu": (lambda e, x: activations.gelu(e, x), lambda x: x * special.ndtr(x)),
    "gelu by tanh": (
        lambda e, x: activations.gelu(e, x, True),
        lambda x: x / 2 * (1 + np.tanh(np.sqrt(2 / np.pi) * (x + 0.044715 * x**3))),
    ),
    "silu": (lambda e, x: activations.silu(e, x), lambda x: x * sigmoid(x)),
    "silu with a slope": (lambda e, x: activations.silu(e, x, 1.702), lambda x: x * sigmoid(1.702 * x)),
    "mish": (lambda e, x: activations.mish(e, x), lambda x: x * np.tanh(softplus(x))),
    "hard sigmoid": (lambda e, x: activations.hard_sigmoid(e, x), lambda x: np.clip(x + 3, 0, 6) / 6),
    "hard sigmoid of old": (lambda e, x: activations.hard_sigmoid(e, x, 0.2), lambda x: np.clip(0.2 * x + 0.5, 0, 1)),
    "elu scaled": (lambda e, x: activations.elu(e, x, 0.7, 1.3), lambda x: 1.3 * np.where(x > 0, x, 0.7 * np.expm1(x))),
    "celu": (lambda e, x: activations.celu(e, x, 1.5), lambda x: np.where(x > 0, x, 1.5 * np.expm1(x / 1.5))),
    "softplus": (lambda e, x: activations.softplus(e, x, 2.0), lambda x: softplus(2 * x) / 2),
    "log sigmoid": (activations.log_sigmoid, lambda x: -softplus(-x)),
    "hard shrink": (lambda e, x: activations.hard_shrink(e, x, 1.0, True), lambda x: np.where(np.abs(x) > 1, x, 0)),
    "hard shrink, otherwise": (
        lambda e, x: activations.hard_shrink(e, x, 1.0, False),
        lambda x: np.where(np.abs(x) > 1, x, 0),
    ),
    "soft shrink": (
        lambda e, x: activations.soft_shrink(e, x, 0.8, True),
        lambda x: np.sign(x) * np.maximum(np.abs(x) - 0.8, 0),
    ),
    "soft shrink, otherwise": (
        lambda e, x: activations.soft_shrink(e, x, 0.8, False),
        lambda x: np.sign(x) * np.maximum(np.abs(x) - 0.8, 0),
    ),
    "tanh shrink": (activations.tanh_shrink, lambda x: x - np.tanh(x)),
    "gated": (lambda e, x: activations.gated(e, x, 1), lambda x: x[:, :12] * sigmoid(x[:, 12:])),
    "clipped": (lambda e, x: activations.clipped(e, x, -1, 2), lambda x: np.clip(x, -1, 2)),
    "at least": (lambda e, x: activations.clipped(e, x, -1, None), lambda x: np.maximum(x, -1)),
    "at most": (lambda e, x: activations.clipped(e, x, None, 2), lambda x: np.minimum(x, 2)),
    "rolled": (lambda e, x: arranging.rolled(e, x, 5, 1), lambda x: np.roll(x, 5, 1)),
    "rolled back": (lambda e, x: arranging.rolled(e, x, -3, 1), lambda x: np.roll(x, -3, 1)),
    "reversed": (lambda e, x: arranging.reversed_along(e, x, [1]), lambda x: x[:, ::-1]),
    "picked": (lambda e, x: arranging.picked(e, x, np.array([3, 3, 0]), 1), lambda x: x[:, [3, 3, 0]]),
    "padded around": (
        lambda e, x: arranging.padded_around(e, x, [0, 2], [0, 3]),
        lambda x: np.pad(x, [(0, 0), (2, 3)], "wrap"),
    ),
    "unit length": (
        lambda e, x: normalisation.unit_length(e, x, [1], 1e-6),
        lambda x: x / np.linalg.norm(x, axis=1, keepdims=True),
    ),
    "mean square": (
        lambda e, x: normalisation.by_mean_square(e, x, [1], 1e-6),
        lambda x: x / np.sqrt((x**2).mean(1, keepdims=True) + 1e-6),
    ),
    "variance": (lambda e, x: normalisation.variance(e, x, [1], True), lambda x: x.var(1, keepdims=True)),
    "variance corrected": (lambda e, x: normalisation.variance(e, x, [1], False, 1), lambda x: x.var(1, ddof=1)),
    "standardised": (
        lambda e, x: normalisation.standardised(e, x, [1], 1e-5),
        lambda x: (x - x.mean(1, keepdims=True)) / np.sqrt(x.var(1, keepdims=True) + 1e-5),
    ),
}


@pytest.mark.parametrize("name", FORMULAS)
def test_a_recipe_is_its_formula(name, tmp_path):
    recipe, formula = FORMULAS[name]
    assert np.allclose(made(recipe, ROWS, tmp_path), formula(ROWS.astype(np.float64)), rtol=2e-5, atol=2e-5)


@pytest.mark.parametrize(
    "recipe",
    [
        lambda e, x: activations.celu(e, x, 0.0),
        lambda e, x: normalisation.group_normalisation(e, x, 5, 1e-5),
        lambda e, x: normalisation.variance(e, x, [0], True),
        lambda e, x: arranging.rolled(e, x, 1, 0),
    ],
)
def test_a_recipe_refuses_what_it_cannot_express(recipe):
    with pytest.raises(SourceError, match="layer (has the slope|cannot put|takes statistics|rolls the batch)"):
        made(recipe, np.zeros((2, 6, 4, 4), np.float32))


def test_group_normalisation_is_instance_normalisation_of_groups(tmp_path):
    x = np.random.default_rng(0).standard_normal((3, 6, 4, 5)).astype(np.float32)
    groups = x.reshape(3, 2, -1)
    wanted = ((groups - groups.mean(2, keepdims=True)) / np.sqrt(groups.var(2, keepdims=True) + 1e-5)).reshape(x.shape)
    assert np.allclose(
        made(lambda e, n: normalisation.group_normalisation(e, n, 2, 1e-5), x, tmp_path), wanted, atol=1e-5
    )


@pytest.mark.parametrize("scale_first", [True, False])
@pytest.mark.parametrize("masked", ["none", "causal", "numbers"])
def test_attention_is_its_formula(masked, scale_first, tmp_path):
    x = np.random.default_rng(0).standard_normal((2, 3, 5, 4)).astype(np.float32)
    bias = np.random.default_rng(1).standard_normal((5, 5)).astype(np.float32)

    def recipe(emit, name):
        weights = attention.scores(emit, name, name, 0.5, scale_first)
        if masked == "causal":
            weights = attention.masked(emit, weights, attention.without_future(emit, weights))
        elif masked == "numbers":
            weights = attention.masked(emit, weights, emit.constant(bias, "bias"))
        return attention.attended(emit, weights, name)

    weights = x @ x.swapaxes(2, 3) * 0.5 + (bias if masked == "numbers" else 0)
    if masked == "causal":
        weights = np.where(np.tri(5, dtype=bool), weights, -np.inf)
    assert np.allclose(made(recipe, x, tmp_path), special.softmax(weights, axis=-1) @ x, atol=1e-5)


def test_shared_heads_are_repeated_for_each():
    x = np.random.default_rng(0).standard_normal((2, 2, 3, 4)).astype(np.float32)
    assert np.array_equal(made(lambda e, n: attention.shared_heads(e, n, 6), x), x.repeat(3, axis=1))


@settings(max_examples=80, deadline=None)
@given(st.data())
def test_products_by_letters_are_numpys(data):
    """Letters of the batch, of rows, inner ones and columns, in any order on either side and in the result."""
    ahead = "n" + "m" * data.draw(st.integers(0, 1))
    rows, inner, columns = (letters[: data.draw(st.integers(1, 2))] for letters in ("rs", "ij", "cd"))
    sizes = dict(zip("nmrsijcd", (2, 3, 2, 4, 3, 2, 5, 2)))
    left = "n" + "".join(data.draw(st.permutations(ahead[1:] + rows + inner)))
    right = "n" + "".join(data.draw(st.permutations(ahead[1:] + inner + columns)))
    wanted = "n" + "".join(data.draw(st.permutations(ahead[1:] + rows + columns)))
    rng = np.random.default_rng(0)
    x, y = (rng.standard_normal([sizes[letter] for letter in term]).astype(np.float32) for term in (left, right))
    builder = GraphBuilder()
    emit = Emit(builder)
    names = [
        builder.input(each, TensorType(FLOAT, (Batch(), *array.shape[1:]))) for each, array in (("x", x), ("y", y))
    ]
    graph = builder.finish([products.by_letters(emit, *names, (left, right), wanted)])
    found = run_graph(graph, {"x": x, "y": y})[graph.outputs[0]]
    assert np.allclose(found, np.einsum(f"{left},{right}->{wanted}", x, y), atol=1e-4)
    assert any(node.operator == "MatMul" for node in graph.nodes) and all(
        node.operator != "Einsum" for node in graph.nodes
    )


def test_gates_are_sorted_along_any_axis():
    array = np.arange(24).reshape(8, 3)
    assert recurrent.sorted_gates(array, recurrent.INPUT_FORGET_CELL_OUTPUT, 0)[:, 0].tolist() == [
        0,
        3,
        18,
        21,
        6,
        9,
        12,
        15,
    ]
    assert np.array_equal(
        recurrent.sorted_gates(array.T, recurrent.INPUT_FORGET_CELL_OUTPUT, 1).T,
        recurrent.sorted_gates(array, (0, 3, 1, 2), 0),
    )


def test_windows_are_numpys():
    x = np.random.default_rng(0).standard_normal((2, 3, 7, 8)).astype(np.float32)
    found = made(lambda e, n: windows.columns(e, n, [2, 3], [2, 1], [1, 0, 1, 2], [1, 2])[0], x)
    padded = np.pad(x, [(0, 0), (0, 0), (1, 1), (0, 2)])
    view = np.lib.stride_tricks.sliding_window_view(padded, (3, 3), (2, 3))[:, :, :, ::2, ::2]
    assert np.array_equal(found, view.transpose(0, 1, 4, 5, 2, 3))


def test_resizing_by_matrices_and_blocks(tmp_path):
    x = np.random.default_rng(0).standard_normal((2, 3, 4, 5)).astype(np.float32)
    rows, columns = np.random.default_rng(1).standard_normal((6, 4)), np.random.default_rng(2).standard_normal((7, 5))
    wanted = np.einsum("ih,nchw,jw->ncij", rows, x, columns)
    assert np.allclose(made(lambda e, n: arranging.by_matrices(e, n, [rows, columns]), x, tmp_path), wanted, atol=1e-4)
    assert np.array_equal(
        made(lambda e, n: arranging.enlarged_by_nearest(e, n, (2, 3)), x, tmp_path), x.repeat(2, 2).repeat(3, 3)
    )


# Layouts


def in_order(x, order, recipe):
    """What a recipe makes of an image that lies in another order than it counts, in the order in which it counts."""
    builder = GraphBuilder()
    emit = Emit(builder)
    lying = np.transpose(x, order)
    name = builder.input("x", TensorType(FLOAT, (Batch(), *lying.shape[1:])))
    out = emit.plain(recipe(emit, View(name, order)))
    graph = builder.finish([out])
    return run_graph(graph, {"x": lying})[out]


@pytest.mark.parametrize("order", [(0, 1, 2, 3), (0, 3, 1, 2), (0, 2, 3, 1)])
def test_layers_do_not_see_how_an_image_lies(order):
    rng = np.random.default_rng(0)
    x, kernel, bias = (rng.standard_normal(shape).astype(np.float32) for shape in ((2, 4, 5, 3), (3, 6), (6,)))
    assert np.allclose(in_order(x, order, lambda e, v: product(e, v, kernel, bias)), x @ kernel + bias, atol=1e-5)
    assert np.array_equal(in_order(x, order, lambda e, v: permuted(e, v, [0, 2, 1, 3])), x.transpose(0, 2, 1, 3))
    assert np.array_equal(in_order(x, order, flattened), x.reshape(2, -1))
    dense = rng.standard_normal((60, 4)).astype(np.float32)
    assert np.allclose(
        in_order(x, order, lambda e, v: product(e, flattened(e, v), dense, None)), x.reshape(2, -1) @ dense, atol=1e-4
    )
    wide = rng.standard_normal((5, 3)).astype(np.float32)

    def added(emit, view):
        names, lead = emit.together([view, emit.named_view(emit.constant(wide, "wide"))])
        return View(emit.step("Add", *names), lead.order)

    assert np.array_equal(in_order(x, order, added), x + wide)


@settings(max_examples=100, deadline=None)
@given(st.integers(1, 30), st.integers(1, 7), st.integers(1, 4), st.integers(1, 3))
def test_same_pads_make_as_many_windows_as_steps_fit(size, kernel, stride, dilation):
    begin, end = same_pads([size], [kernel], [stride], [dilation])
    reach = dilation * (kernel - 1) + 1
    assert end - begin in (0, 1)
    if size + begin + end >= reach:
        assert (size + begin + end - reach) // stride + 1 == -(-size // stride)


# Layer normalisations that are joined again


@pytest.mark.parametrize("form", ["folded", "folded with a difference", "plain", "plain without numbers"])
def test_a_layer_normalisation_that_was_taken_apart(form):
    rng = np.random.default_rng(0)
    x, gamma, beta = (rng.standard_normal(shape).astype(np.float32) for shape in ((3, 5, 8), (8,), (8,)))
    builder = GraphBuilder()
    emit = Emit(builder)
    name = builder.input("x", TensorType(FLOAT, (Batch(), 5, 8)))
    mean = emit.step("ReduceMean", name, axes=[-1], keepdims=1)
    centred = emit.step("Sub", name, mean)
    spread = emit.step("ReduceMean", emit.step("Mul", centred, centred), axes=[2], keepdims=1)
    root = emit.step("Sqrt", emit.step("Add", spread, emit.number(1e-5, name)))
    g, b = emit.constant(gamma, "gamma"), emit.constant(beta, "beta")
    if form.startswith("folded"):
        factor = emit.step("Mul", emit.step("Reciprocal", root), g)
        shift = emit.step("Sub", b, emit.step("Mul", mean, factor))
        if form == "folded":
            shift = emit.step("Add", emit.step("Mul", emit.step("Neg", mean), factor), b)
        out = emit.step("Add", emit.step("Mul", name, factor), shift)
    else:
        out = emit.step("Div", centred, root)
        out = out if form.endswith("numbers") else emit.step("Add", emit.step("Mul", out, g), b)
    graph = builder.finish([out])
    joined = join_layer_normalizations(graph)
    assert [node.operator for node in joined.nodes][-1] == "LayerNormalization"
    assert np.allclose(run_graph(graph, {"x": x})[out], run_graph(joined, {"x": x})[out], atol=1e-5)


@pytest.mark.parametrize("spoilt", ["another mean", "another axis", "another epsilon place"])
def test_what_only_resembles_one_is_left_alone(spoilt):
    builder = GraphBuilder()
    emit = Emit(builder)
    name = builder.input("x", TensorType(FLOAT, (Batch(), 8, 8)))
    axis = 1 if spoilt == "another axis" else 2
    mean = emit.step("ReduceMean", name, axes=[axis], keepdims=1)
    centred = emit.step("Sub", name, mean)
    spread = emit.step("ReduceMean", emit.step("Mul", centred, centred), axes=[axis], keepdims=1)
    root = emit.step(
        "Sqrt", spread if spoilt == "another epsilon place" else emit.step("Add", spread, emit.number(1e-5, name))
    )
    above = (
        emit.step("Sub", name, emit.step("ReduceMax", name, axes=[2], keepdims=1))
        if spoilt == "another mean"
        else centred
    )
    graph = builder.finish([emit.step("Div", above, root)])
    assert join_layer_normalizations(graph) is graph
