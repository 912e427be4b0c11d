"""Element-wise operators at zeros of both signs, infinities, what is no number, ties, and the borders of their
definition."""

import numpy as np
import pytest
from conftest import needs_jax

from zygal.artifact.formats import write_artifact
from zygal.classifier.metadata import Metadata
from zygal.engines.session import open_session
from zygal.graph.passes import run_passes
from zygal.graph.reference import run_graph
from zygal.sources import read_source

torch = pytest.importorskip("torch")
F = torch.nn.functional

VALUES = [
    0.0,
    -0.0,
    np.inf,
    -np.inf,
    np.nan,
    0.5,
    -0.5,
    1,
    -1,
    1.5,
    -1.5,
    2.5,
    -2.5,
    3,
    -3,
    6,
    -6,
    20,
    -20,
    88,
    -88,
    100,
    -100,
    1e-30,
    -1e-30,
    1e30,
    -1e30,
    0.2,
    0.8,
    0.25,
    -0.25,
    4,
    -4,
]
OF_TORCH = [
    "abs",
    "acos",
    "acosh",
    "asin",
    "asinh",
    "atan",
    "atanh",
    "ceil",
    "cos",
    "cosh",
    "deg2rad",
    "erf",
    "erfc",
    "exp",
    "exp2",
    "expm1",
    "floor",
    "frac",
    "isfinite",
    "isinf",
    "isnan",
    "log",
    "log10",
    "log1p",
    "log2",
    "logit",
    "nan_to_num",
    "neg",
    "rad2deg",
    "reciprocal",
    "relu",
    "round",
    "rsqrt",
    "sigmoid",
    "sign",
    "signbit",
    "sin",
    "sinc",
    "sinh",
    "sqrt",
    "square",
    "tan",
    "tanh",
    "trunc",
]
OF_LAYERS = [
    "elu",
    "celu",
    "selu",
    "hardshrink",
    "hardsigmoid",
    "hardswish",
    "hardtanh",
    "leaky_relu",
    "logsigmoid",
    "mish",
    "relu6",
    "rrelu",
    "silu",
    "softplus",
    "softshrink",
    "softsign",
    "tanhshrink",
]
OF_TWO = [
    "atan2",
    "copysign",
    "div",
    "fmod",
    "remainder",
    "hypot",
    "logaddexp",
    "maximum",
    "minimum",
    "mul",
    "add",
    "sub",
    "xlogy",
    "eq",
    "ne",
    "lt",
    "le",
    "gt",
    "ge",
    "heaviside",
    "pow",
    "floor_divide",
]
FUNCTIONS = {
    **{name: getattr(torch, name) for name in OF_TORCH},
    **{name: getattr(F, name) for name in OF_LAYERS},
    **{f"{name} of two": lambda x, name=name: getattr(torch, name)(x, x.flip(1)) for name in OF_TWO},
    "threshold": lambda x: F.threshold(x, 0.5, -7.0),
    "clamp": lambda x: torch.clamp(x, -1.5, 2.5),
    "clamp_min": lambda x: torch.clamp(x, min=0.5),
    "clamp_max": lambda x: torch.clamp(x, max=-0.5),
    "softplus with its own threshold": lambda x: F.softplus(x, 2.0, 5.0),
    "round to decimals": lambda x: torch.round(x, decimals=1),
    "power 3": lambda x: x**3,
    "power 0.5": lambda x: x**0.5,
    "power -1": lambda x: x**-1,
    "power 1.5": lambda x: x**1.5,
    "ndtr": torch.special.ndtr,
    "truncated quotient": lambda x: torch.div(x, x.flip(1), rounding_mode="trunc"),
    "lerp": lambda x: torch.lerp(x, x.flip(1), 0.3),
    "remainder of a number": lambda x: torch.remainder(x, 1.5),
    "fmod of a number": lambda x: torch.fmod(x, -1.5),
    "quotient by a number": lambda x: x // 1.5,
    "elu with arguments": lambda x: F.elu(x, 0.7),
    "celu with arguments": lambda x: F.celu(x, 0.7),
    "hardshrink with arguments": lambda x: F.hardshrink(x, 1.0),
    "softshrink with arguments": lambda x: F.softshrink(x, 1.0),
}


class All(torch.nn.Module):
    """Every function as one of the outputs."""

    def forward(self, x):
        return {name: function(x).float() for name, function in FUNCTIONS.items()}


@pytest.fixture(scope="module")
def program_and_results(tmp_path_factory):
    image = torch.tensor([VALUES, VALUES[::-1][5:] + VALUES[:5]], dtype=torch.float32)
    path = tmp_path_factory.mktemp("special") / "all.pt2"
    torch.export.save(torch.export.export(All(), (image,)), path)
    return path, image.numpy(), {name: result.numpy() for name, result in All()(image).items()}


@pytest.mark.alike
@pytest.mark.parametrize("name", FUNCTIONS)
def test_borders_of_the_definition(name, program_and_results, tmp_path):
    path, image, wanted = program_and_results
    with read_source(path, name) as source:
        graph = run_passes(source.graph)
        graph = graph.renamed({graph.inputs[0]: "image", graph.outputs[0]: "scores"})
        write_artifact(graph, tmp_path / "m.onnx", Metadata())
        with np.errstate(all="ignore"):
            reference = run_graph(graph, {"image": image})["scores"]
    (found,) = open_session(tmp_path / "m.onnx").run(["scores"], {"image": image})
    right = wanted[name]
    for result in (found, reference):
        with np.errstate(all="ignore"):
            near = np.abs(result - right) <= 1e-5 * np.maximum(np.abs(right), 1.0)
        same = (result == right) | (np.isnan(result) & np.isnan(right)) | (np.isfinite(right) & near)
        assert same.all(), [(float(image[i]), float(result[i]), float(right[i])) for i in zip(*np.nonzero(~same))][:4]


OF_KERAS = [
    "relu",
    "relu6",
    "sigmoid",
    "tanh",
    "elu",
    "selu",
    "celu",
    "softplus",
    "softsign",
    "silu",
    "hard_sigmoid",
    "hard_silu",
    "hard_tanh",
    "leaky_relu",
    "log_sigmoid",
    "hard_shrink",
    "soft_shrink",
    "tanh_shrink",
    "squareplus",
    "sparse_plus",
    "mish",
]


@pytest.mark.jax
def test_borders_of_the_other_framework(tmp_path):
    needs_jax()
    keras = pytest.importorskip("keras")
    values = np.array([each for each in VALUES if each != 1e30 and each != -1e30], np.float32)
    image = keras.Input((len(values),), name="image")
    outputs = {name: keras.layers.Activation(name)(image) for name in OF_KERAS}
    model = keras.Model(image, outputs)
    model.save(tmp_path / "m.keras")
    wanted, wrong = model(values[None], training=False), {}
    for name in outputs:
        with read_source(tmp_path / "m.keras", output=name) as source:
            graph = run_passes(source.graph)
            graph = graph.renamed({graph.inputs[0]: "image", graph.outputs[0]: "scores"})
            write_artifact(graph, tmp_path / "m.onnx", Metadata())
        (found,) = open_session(tmp_path / "m.onnx").run(["scores"], {"image": values[None]})
        right = np.asarray(keras.ops.convert_to_numpy(wanted[name]))
        same = np.isclose(found, right, rtol=1e-5, atol=1e-5, equal_nan=True)
        wrong |= (
            {name: [(float(values[at]), float(found[0, at]), float(right[0, at])) for at in np.flatnonzero(~same[0])]}
            if not same.all()
            else {}
        )
    assert not wrong
