"""A fault of the conversion, or the model's own rounding: ill-conditioned networks and wrong conversions, made on
purpose, are never confused."""

import json

import numpy as np
import pytest
from conftest import called, capture
from PIL import Image

from zygal.conversion.convert import Choices, convert
from zygal.engines.artifact import RuntimeEngine
from zygal.errors import GraphError
from zygal.evidence.rounding import BY_CONVERSION, BY_ROUNDING, own_rounding
from zygal.graph import Batch, GraphBuilder, TensorType
from zygal.sources.onnx.translate import artifact_graph

torch = pytest.importorskip("torch")


class Network(torch.nn.Module):
    """Convolution, normalisation and a map that doubles every error `doublings` times: what chaotic recurrences do."""

    def __init__(self, doublings, padding=1, approximate="none", epsilon=1e-5, scale=1.0):
        super().__init__()
        self.features = torch.nn.Sequential(
            torch.nn.Conv2d(3, 8, 3, padding=padding), torch.nn.BatchNorm2d(8, epsilon), torch.nn.GELU(approximate)
        )
        self.head, self.doublings, self.scale = torch.nn.Linear(8, 6), doublings, scale

    def forward(self, x):
        y = torch.sigmoid(self.scale * self.head(self.features(x).mean((2, 3))))
        for _ in range(self.doublings):
            y = 4 * y * (1 - y)
        return y


FAULTS = (
    {"approximate": "tanh"},
    {"epsilon": 1e-2},
    {"scale": 1.001},
    {"padding": 0},
    {"epsilon": 1e-3, "approximate": "tanh"},
)


def judged(tmp_path, seed, doublings, fault=None):
    """What is concluded of a conversion, or of one of a network with a fault."""

    def network(**more):
        torch.manual_seed(seed)
        made = Network(doublings, **more)
        made.features[1].running_var.uniform_(0.01, 0.05)
        return made.eval()

    x = np.random.default_rng(seed).standard_normal((4, 3, 16, 16)).astype(np.float32)
    with torch.inference_mode():
        recorded = network()(torch.from_numpy(x)).numpy()
    capture(network(**(fault or {})), tmp_path / "model.pt2", (3, 16, 16))
    convert(tmp_path / "model.pt2", tmp_path / "model.onnx", choices=Choices())
    ours = RuntimeEngine(tmp_path / "model.onnx").run(x)
    return own_rounding(artifact_graph(tmp_path / "model.onnx"), x, recorded, ours, float(np.ptp(recorded)))


@pytest.mark.alike
@pytest.mark.parametrize("seed", range(0, 20, 2))
def test_an_ill_conditioned_model_is_not_a_wrong_conversion(tmp_path, seed):
    found = judged(tmp_path, seed, 8 + seed % 8)
    assert found.conclusion == BY_ROUNDING and found.own > 1e-6, found


@pytest.mark.alike
@pytest.mark.parametrize("seed", range(0, 20, 2))
def test_a_wrong_conversion_is_not_taken_for_rounding(tmp_path, seed):
    # Up to 7 doublings: own rounding of 1e-5, which is ten times what a gate would see of a good model.
    found = judged(tmp_path, seed, seed % 8, FAULTS[seed % len(FAULTS)])
    assert found.conclusion == BY_CONVERSION, found


@pytest.mark.parametrize(
    "name, doublings, fault, words",
    [
        ("ill", 13, {}, ("the conversion is right, the model is ill-conditioned", "--model-limit")),
        ("wrong", 0, {"epsilon": 1e-2}, ("or its conversion is wrong", "rounding moves this model by")),
    ],
)
def test_match_says_whose_fault_it_is(tmp_path, name, doublings, fault, words):
    """Through the program: gate B fails in both cases, and the sentence differs."""
    x = np.random.default_rng(3).standard_normal((6, 3, 16, 16)).astype(np.float32)
    for more, path in (({}, None), (fault, tmp_path / "model.pt2")):
        torch.manual_seed(3)
        model = Network(doublings, **more).eval()
        model.features[1].running_var.fill_(0.02)
        if path:
            capture(model, path, (3, 16, 16))
        else:
            with torch.inference_mode():
                np.save(tmp_path / "scores.npy", model(torch.from_numpy(x)).numpy())
    np.save(tmp_path / "tensors.npy", x)
    (tmp_path / "names.txt").write_text("".join(f"{index}.png\n" for index in range(6)))
    (tmp_path / "images").mkdir()
    for index in range(6):
        Image.new("RGB", (16, 16), (index, 0, 0)).save(tmp_path / "images" / f"{index}.png")
    assert called("convert", "model.pt2", "-o", "model.onnx", cwd=tmp_path).returncode == 0
    recorded = called(
        "witness",
        "model.pt2",
        "--from-arrays",
        "scores.npy",
        "--tensors",
        "tensors.npy",
        "--names",
        "names.txt",
        "--images",
        "images",
        "-o",
        "w.witness",
        cwd=tmp_path,
    )
    assert recorded.returncode == 0, recorded.stderr
    done = called(
        "match", "model.onnx", "--witness", "w.witness", "--model-limit", "1e-7", "--json", "m.json", cwd=tmp_path
    )
    assert done.returncode == 1 and "in float64 to tell a wrong conversion from rounding" in done.stderr
    text = " ".join(done.stdout.split())
    assert all(word in text for word in words), text
    found = json.loads((tmp_path / "m.json").read_text())
    assert found["own_rounding"]["conclusion"] == {"ill": BY_ROUNDING, "wrong": BY_CONVERSION}[name]


def test_nothing_is_concluded_where_float32_overflows():
    builder = GraphBuilder()
    builder.input("x", TensorType(np.dtype(np.float32), (Batch(), 2)))
    builder.add("Exp", ["x"], "powers")
    builder.add("Div", ["powers", "powers"], "scores")
    scores = np.ones((3, 2), np.float32)
    with pytest.raises(GraphError, match="not finite"):
        own_rounding(builder.finish(["scores"]), np.full((3, 2), 100, np.float32), scores, scores, 1.0)
