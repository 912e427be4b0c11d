"""The operators' NumPy meanings, judged by the standard's own cases, by the framework and by the runtime."""

import re
import warnings
from pathlib import Path

import numpy as np
import onnx
import pytest
import torch
from hypothesis import given, settings
from hypothesis import strategies as st

from zygal.artifact.formats import write_artifact
from zygal.artifact.onnx.spelling import spelling_of
from zygal.classifier.metadata import Metadata
from zygal.engines.artifact import RuntimeEngine
from zygal.errors import GraphError
from zygal.graph import Batch, GraphBuilder, TensorType
from zygal.graph.ops import known_operators, operator_named
from zygal.graph.reference import run_graph
from zygal.sources.onnx.translate import graph_of_model

FLOAT = np.dtype("float32")
# Zygal states these by what is known beforehand, which the standard's cases do not say; the runtime judges them below.
# Those for sizes that only a run knows are judged where the inlet is inside a graph.
JUDGED_BY_THE_RUNTIME = (
    "Resize",
    "Expand",
    "CumSum",
    "LayerNormalization",
    "If",
    "Range",
    "MeasuredExpand",
    "MeasuredPad",
    "MeasuredReshape",
    "MeasuredSlice",
)
STORING = ("QuantizeLinear", "DequantizeLinear")
DTYPES = ("float32", "float64", "int32", "int64", "bool")


# Cases of the standard that no image classifier has a use for, and that Zygal's operators refuse.
LEFT_OUT = (
    *(f"test_matmul_{sides}" for sides in ("1d_1d", "1d_3d", "4d_1d")),  # vectors in matrix products
    *(
        f"test_pow_types_{a}{w}_{b}{v}"
        for a, b in (("float", "int"), ("int", "float"))
        for w in (32, 64)
        for v in (32, 64)
    ),
    *(
        f"test_reduce_{name}"
        for name in (
            "max_empty_set",
            "max_empty_set_bool",
            "max_bool_inputs",
            "sum_empty_set",
            "min_empty_set",
            "min_empty_set_bool",
            "min_bool_inputs",
            "prod_empty_set",
            "l1_empty_set",
            "l2_empty_set",
            "l1_empty_set_expanded",
            "l2_empty_set_expanded",
            "sum_empty_set_non_reduced_axis_zero",
        )
    ),
    *(f"test_gridsample_volumetric_{mode}_align_corners_{n}" for mode in ("nearest", "bilinear") for n in (0, 1)),
    "test_attention_4d_diff_heads_mask4d_padded_kv",  # lengths of keys that earlier runs left
    "test_lstm_with_peepholes",
    "test_gru_seq_length",
    "test_rnn_seq_length",
    "test_lstm_with_initial_bias",
    "test_einsum_batch_diagonal",
    "test_einsum_inner_prod",  # repeated letters, no axis left
)


def standard_cases():
    """The standard's cases for one node of an operator that Zygal has, used as Zygal can state it."""
    # Takes seconds to import.
    from onnx.backend.test.case.node import collect_testcases

    for case in collect_testcases(None):
        nodes = case.model.graph.node if case.model else ()
        known = set(known_operators()) - set(JUDGED_BY_THE_RUNTIME)
        if (
            len(nodes) != 1
            or nodes[0].op_type not in known
            or len(nodes[0].output) > operator_named(nodes[0].op_type).results
        ):
            continue
        stated = {parameter.name for parameter in operator_named(nodes[0].op_type).parameters}
        arrays = [*case.data_sets[0][0], *case.data_sets[0][1]]
        computed = DTYPES + (("int8", "uint8") if nodes[0].op_type in STORING else ())
        plain = all(isinstance(array, np.ndarray) and array.dtype.name in computed for array in arrays)
        if (
            plain
            and case.name not in LEFT_OUT
            and stated.issuperset(attribute.name for attribute in nodes[0].attribute)
        ):
            yield case


@pytest.fixture(scope="module")
def cases():
    """By operator."""
    found = {}
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")  # The standard's case generator divides by zero on purpose.
        for case in standard_cases():
            found.setdefault(case.model.graph.node[0].op_type, []).append(case)
    return found


@pytest.mark.slow
def test_the_standard_has_cases_for_nearly_all_operators(cases):
    assert sum(map(len, cases.values())) >= 330
    assert set(known_operators()) - set(cases) - set(JUDGED_BY_THE_RUNTIME) <= {"Cast"}


@pytest.mark.slow
@pytest.mark.parametrize("operator", sorted(set(known_operators()) - set(JUDGED_BY_THE_RUNTIME) - {"Cast"}))
def test_standard_cases(operator, cases):
    for case in cases[operator]:
        model = onnx.ModelProto.FromString(case.model.SerializeToString())
        for given_inputs, wanted in case.data_sets:
            names = [info.name for info in model.graph.input]
            # What the operator takes as a static parameter becomes a constant of the model.
            for name, array in zip(names, given_inputs, strict=True):
                if isinstance(array, np.ndarray) and (array.dtype.kind == "i" or array.ndim == 0):
                    model.graph.initializer.append(onnx.numpy_helper.from_array(np.asarray(array), name))
            held = {tensor.name for tensor in model.graph.initializer}
            graph = graph_of_model(model, case.name)
            found = run_graph(graph, {n: a for n, a in zip(names, given_inputs, strict=True) if n not in held})
            for array, right in zip(found.values(), wanted, strict=True):
                assert array.dtype == right.dtype and array.shape == right.shape, case.name
                atol = max(case.atol, 1e-6)
                np.testing.assert_allclose(array, right, rtol=case.rtol, atol=atol, err_msg=case.name)


def single_node(operator, x_shape, constants=(), **attributes):
    builder = GraphBuilder()
    names = [builder.input("x", TensorType(FLOAT, x_shape))]
    names += [builder.constant(f"c{place}", array) for place, array in enumerate(constants)]
    return builder.finish([builder.add(operator, names, "y", "layer", **attributes)])


@st.composite
def geometry(draw):
    kernel = draw(st.tuples(st.integers(1, 4), st.integers(1, 4)))
    dilation = draw(st.tuples(st.integers(1, 2), st.integers(1, 3)))
    reach = [d * (k - 1) + 1 for k, d in zip(kernel, dilation, strict=True)]
    return {
        "kernel": kernel,
        "dilation": dilation,
        "stride": draw(st.tuples(st.integers(1, 3), st.integers(1, 3))),
        "padding": tuple(draw(st.integers(0, k // 2)) for k in kernel),
        "size": tuple(draw(st.integers(max(r, 1), r + 7)) for r in reach),
    }


@settings(max_examples=60, deadline=None)
@given(geometry(), st.integers(1, 3), st.integers(1, 3), st.integers(1, 3), st.booleans(), st.integers(0, 9))
def test_convolution_is_the_frameworks(g, group, per_group, out, biased, seed):
    chance = np.random.default_rng(seed)
    x = chance.standard_normal((2, group * per_group, *g["size"]), np.float32)
    weight = chance.standard_normal((group * out, per_group, *g["kernel"]), np.float32)
    constants = [weight, chance.standard_normal(group * out, np.float32)][: 1 + biased]
    graph = single_node(
        "Conv",
        (Batch(), *x.shape[1:]),
        constants,
        strides=g["stride"],
        pads=g["padding"] * 2,
        dilations=g["dilation"],
        group=group,
        kernel_shape=g["kernel"],
    )
    right = torch.conv2d(
        torch.from_numpy(x),
        *map(torch.from_numpy, constants),
        *([] if biased else [None]),
        stride=g["stride"],
        padding=g["padding"],
        dilation=g["dilation"],
        groups=group,
    )
    found = run_graph(graph, {"x": x})["y"]
    assert found.shape[1:] == graph.types["y"].shape[1:] == tuple(right.shape[1:])
    np.testing.assert_allclose(found, right.numpy(), atol=2e-5, rtol=1e-4)


@settings(max_examples=60, deadline=None)
@given(geometry(), st.booleans(), st.booleans(), st.booleans())
def test_pooling_is_the_frameworks(g, ceil, counted, maximum):
    x = np.random.default_rng(3).standard_normal((2, 3, *g["size"]), np.float32)
    shared = {"kernel_shape": g["kernel"], "strides": g["stride"], "pads": g["padding"] * 2, "ceil_mode": int(ceil)}
    tensor = torch.from_numpy(x)
    if maximum:
        graph = single_node("MaxPool", (Batch(), *x.shape[1:]), dilations=g["dilation"], **shared)
        right = torch.nn.functional.max_pool2d(tensor, g["kernel"], g["stride"], g["padding"], g["dilation"], ceil)
    else:
        graph = single_node("AveragePool", (Batch(), *x.shape[1:]), count_include_pad=int(counted), **shared)
        right = torch.nn.functional.avg_pool2d(tensor, g["kernel"], g["stride"], g["padding"], ceil, counted)
    np.testing.assert_allclose(run_graph(graph, {"x": x})["y"], right.numpy(), atol=1e-5)


EMITTED = [
    ("Clip", (), {"min": -0.5, "max": 0.75}),
    ("Clip", (), {"max": 0.25}),
    ("ReduceMean", (), {"axes": [2, 3], "keepdims": 0}),
    ("ReduceSum", (), {"axes": [1], "keepdims": 1}),
    ("Reshape", (), {"shape": [-1, 8, 3]}),
    ("Squeeze", (), {"axes": [1]}),
    ("Unsqueeze", (), {"axes": [0, -1]}),
    ("Pad", (), {"pads": [0, 0, 1, 0, 0, 0, 2, 3], "value": 1.5}),
    ("Pad", (), {"pads": [0, 0, 1, 0, 0, 0, 2, 3], "mode": "reflect"}),
    ("Transpose", (), {"perm": [0, 2, 3, 1]}),
    ("Flatten", (), {"axis": 2}),
    ("HardSwish", (), {}),
    ("Resize", (), {"scales": [1.0, 1.0, 2.0, 3.0], "mode": "linear"}),
    (
        "Resize",
        (),
        {"scales": [1.0, 1.0, 3.0, 2.0], "mode": "linear", "coordinate_transformation_mode": "align_corners"},
    ),
    (
        "Resize",
        (),
        {"scales": [1.0, 1.0, 2.0, 2.0], "coordinate_transformation_mode": "asymmetric", "nearest_mode": "floor"},
    ),
    ("Expand", (np.array([3, 5, 6, 4]),), {"sizes": (Batch(), 5, 6, 4)}),
    ("Tile", (), {"repeats": [1, 2, 1, 3]}),
    ("Slice", (), {"starts": [-1, 0], "ends": [-(2**62), 5], "axes": [2, 3], "steps": [-2, 3]}),
    ("CumSum", (), {"axis": 2, "reverse": 1}),
    ("LayerNormalization", (np.float32([1, 2, 3, 4]), np.float32([0, 1, 0, -1])), {"axis": -1}),
]


@pytest.mark.parametrize("operator, constants, attributes", EMITTED, ids=[str(i) for i in range(len(EMITTED))])
def test_the_runtime_agrees_with_the_emitted_form(operator, constants, attributes, tmp_path):
    graph = single_node(operator, (Batch(), 1, 6, 4), constants, **attributes)
    x = np.random.default_rng(0).standard_normal((3, 1, 6, 4), np.float32)
    write_artifact(graph, tmp_path / "node.onnx", Metadata())
    np.testing.assert_allclose(RuntimeEngine(tmp_path / "node.onnx").run(x), run_graph(graph, {"x": x})["y"], atol=1e-6)


@pytest.mark.parametrize(
    "operator, shape, attributes, words",
    [
        ("Reshape", (Batch(), 3, 5), {"shape": [4, -1, 7]}, "number of elements"),
        ("ReduceMean", (Batch(), 3), {"axes": [0]}, "mix the images"),
        ("Pad", (Batch(), 3), {"pads": [1, 0, 0, 0]}, "pad the batch"),
        ("Transpose", (Batch(), 3), {"perm": [0, 2]}, "not a permutation"),
        ("MaxPool", (Batch(), 3, 4, 4), {"kernel_shape": [5, 5], "strides": [1, 1], "pads": [0] * 4}, "larger than"),
        ("Relu", (Batch(), 3), {"alpha": 1}, "no attribute alpha"),
        ("Unheard", (Batch(), 3), {}, "no operator Unheard"),
    ],
)
def test_misuse_is_refused_with_its_reason(operator, shape, attributes, words):
    with pytest.raises(GraphError, match=words):
        single_node(operator, shape, **attributes)


def test_the_document_names_the_version_of_every_operator():
    rows = re.findall(
        r"^\| (\w+) \| (\d+) \| (\d+) \|$", (Path(__file__).parents[1] / "docs" / "operators.md").read_text(), re.M
    )
    assert {name: (int(since), int(version)) for name, since, version in rows} == {
        name: (since, onnx.defs.get_schema(spelling_of(name).name or name, since, "").since_version)
        for name, since in ((name, spelling_of(name).since) for name in known_operators())
    }
