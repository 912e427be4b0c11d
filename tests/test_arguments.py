"""Arguments away from their defaults: each is right, or refused by name; none is ignored."""

import logging
import random
import sys
import warnings
from itertools import islice
from pathlib import Path

import numpy as np
import pytest
from conftest import called, needs_jax

from zygal.errors import SourceError
from zygal.sources import read_source
from zygal.sources.keras.settings import Positional, Settings, unread_settings
from zygal.sources.pytorch.calls import HANDLERS
from zygal.sources.pytorch.neutral import unread_arguments
from zygal.sources.pytorch.program import Call

torch = pytest.importorskip("torch")
F = torch.nn.functional
sys.path.insert(0, str(Path(__file__).parents[1] / "benchmarks"))

from arguments_pytorch import LIKE_RANDOM, Sample, difference, outcome  # noqa: E402


class Code(torch.nn.Module):
    def __init__(self, function):
        super().__init__()
        self.function = function
        self.scale = torch.nn.Parameter(torch.tensor(1.0))

    def forward(self, x):
        return self.function(x) * self.scale


def became(function, tmp_path, image=None):
    """right, wrong, refused or unknown, and a sentence."""
    image = torch.randn(2, 6, 5, 4, generator=torch.Generator().manual_seed(3)) if image is None else image
    return outcome(Code(function), image, tmp_path)


def written_copy(x):
    y = x * 1.5
    y.contiguous(memory_format=torch.channels_last).mul_(7)
    return y


def written_self(x):
    y = x * 1.5
    y.contiguous().mul_(7)
    return y


def copied_on_purpose(x):
    y = x * 1.5
    y.to(torch.float32, copy=True).mul_(7)
    return y


def same_dtype_is_itself(x):
    y = x * 1.5
    y.to(torch.float32).mul_(7)
    return y


def moved_by_format(x):
    y = x * 1.5
    y.to(memory_format=torch.channels_last).add_(9)
    return y


def lifted_twice(x):
    c = torch.tensor([1.0, 2.0, 3.0, 4.0])
    c.add_(1)
    return x * c


MASK = torch.ones(5, 5, dtype=torch.bool).tril(-1)  # The first row is masked as a whole.
FLOAT_MASK = torch.zeros(5, 5).masked_fill(~MASK, float("-inf"))
PROVEN = {
    "atan2 at the origin": (lambda x: torch.atan2(x * 0, x * 0), "right"),
    "atan2 of minus zero": (lambda x: torch.atan2(x * 0, x * -0.0), "right"),
    "copysign with minus zero": (lambda x: torch.copysign(x, x * -0.0), "right"),
    "group norm with a bias alone": (lambda x: F.group_norm(x, 3, None, torch.arange(6.0)), "right"),
    "a norm of order minus infinity": (lambda x: torch.linalg.vector_norm(x, -np.inf, (2, 3)), "right"),
    "a norm of order infinity": (lambda x: torch.linalg.vector_norm(x, np.inf, (2, 3)), "right"),
    "a norm of order 0": (lambda x: torch.linalg.vector_norm(F.relu(x), 0, (2, 3)), "right"),
    "a norm of order 3": (lambda x: torch.linalg.vector_norm(x, 3, 1), "right"),
    "attention with a row that is masked": (lambda x: F.scaled_dot_product_attention(x, x, x, MASK), "right"),
    "attention with a row of minus infinity": (lambda x: F.scaled_dot_product_attention(x, x, x, FLOAT_MASK), "right"),
    "attention with a scale": (lambda x: F.scaled_dot_product_attention(x, x, x, scale=0.3), "right"),
    "causal attention": (lambda x: F.scaled_dot_product_attention(x, x, x, is_causal=True), "right"),
    "a copy in another memory format is written": (written_copy, "right"),
    "the same memory is written": (written_self, "right"),
    "a copy that was asked for is written": (copied_on_purpose, "right"),
    "the same dtype is no copy": (same_dtype_is_itself, "right"),
    "a copy by a memory format is written": (moved_by_format, "right"),
    "a constant is written": (lifted_twice, "right"),
    "strides of a turned tensor": (lambda x: x.permute(0, 3, 1, 2).as_strided((2, 3), (120, 2)), "refused"),
    "strides of a part": (lambda x: x[:, 1:].as_strided((2, 3), (120, 2)), "refused"),
    "strides of a whole": (lambda x: (x * 2).as_strided((2, 3, 4), (120, 20, 3), 5), "right"),
    "half and back": (lambda x: x.half().float(), "right"),
    "computing in half": (lambda x: (x.half() * 1.1).float(), "refused"),
    "computing in bfloat16": (lambda x: (x.bfloat16() + 1).float(), "refused"),
    "computing in double": (lambda x: (x.double().exp() * 1e9).float(), "refused"),
    "double and back": (lambda x: x.double().float(), "right"),
    "a cast to complex numbers": (lambda x: x.to(torch.complex64).real, "refused unknown"),
    "a cast to 16 bits": (lambda x: (x * 9).to(torch.int16).float(), "right"),
    "a cast to bytes of another kind": (lambda x: x.to(torch.float8_e5m2).float(), "refused"),
    "running sums in another dtype": (lambda x: torch.cumsum(x * 3, 1, dtype=torch.int32).float(), "right"),
    "running sums of truth": (lambda x: torch.cumsum(x > 0, 1).float(), "right"),
    "a sum in another dtype": (lambda x: torch.sum(x * 3, 1, dtype=torch.int64).float(), "right"),
    "a mean of whole numbers": (lambda x: torch.mean((x * 9).int(), 1, dtype=torch.float32), "right"),
    "a product in whole numbers": (lambda x: torch.prod((x * 3).int(), 3).float(), "right"),
    "a softmax of whole numbers": (lambda x: torch.softmax((x * 3).int(), 1, dtype=torch.float32), "right"),
    "elu with all arguments": (lambda x: torch.nn.functional.elu(x, 0.5), "right"),
    "dropout in place": (lambda x: F.dropout(x * 2, 0.5, False, inplace=True), "right"),
    "dropout of channels in place": (lambda x: F.dropout2d(x * 2, 0.5, False, inplace=True), "right"),
    "alpha dropout in place": (lambda x: F.alpha_dropout(x * 2, 0.5, False, inplace=True), "right"),
    "a roll of an empty axis": (lambda x: x.sum((1, 2)).roll(1, 1), "right"),
    "all of a tensor": (lambda x: x[:, :9], "right"),
    "antialiasing with aligned corners": (
        lambda x: F.interpolate(x, (3, 3), mode="bilinear", antialias=True, align_corners=True),
        "refused",
    ),
    "topk that is not sorted": (lambda x: torch.topk(x, 3, -1, True, True)[0], "right"),
    "a stable sort": (lambda x: torch.sort(x, stable=True, dim=1, descending=True)[0], "right"),
    "a remainder of minus infinity": (lambda x: torch.remainder(x, -np.inf), "right"),
}


@pytest.mark.parametrize("name", PROVEN)
def test_what_was_wrong_without_a_word(name, tmp_path):
    function, expected = PROVEN[name]
    kind, detail = became(function, tmp_path)
    assert kind in expected.split(), (kind, detail)


def samples(count):
    """Some of the framework's own samples for operators of all kinds, the same ones each time."""
    from torch.testing._internal.common_methods_invocations import op_db

    torch.manual_seed(0)
    chance, found = random.Random(7), []
    known = {name.split(".")[1] for name in HANDLERS if name.startswith("aten.")}
    entries = [
        each
        for each in op_db
        if each.name.rpartition(".")[2] in known and not any(word in each.name for word in LIKE_RANDOM)
    ]
    chance.shuffle(entries)
    for entry in entries:
        if len(found) == count:
            break
        try:
            few = islice(entry.sample_inputs("cpu", torch.float32, requires_grad=False), 12)
            fitting = [
                s
                for s in few
                if isinstance(s.input, torch.Tensor)
                and s.input.layout == torch.strided
                and s.input.dtype == torch.float32
                and s.input.ndim
                and s.input.numel()
                and (s.args or s.kwargs)
                and not (s.kwargs.get("training") or s.kwargs.get("dropout_p") or "native_batch" in entry.name)
            ]
        except Exception:  # Some samples want devices or packages that are not here.
            continue
        if fitting:
            found.append((entry, chance.choice(fitting)))
    return found


@pytest.mark.slow
def test_the_frameworks_own_samples_are_right_or_refused(tmp_path):
    warnings.simplefilter("ignore")
    logging.disable(logging.CRITICAL)
    try:
        kinds = {}
        for entry, sample in samples(110):
            kind, detail = outcome(Sample(entry.op, sample.args, sample.kwargs), sample.input.contiguous(), tmp_path)
            kinds.setdefault(kind, []).append((entry.name, detail))
    finally:
        logging.disable(logging.NOTSET)
    assert not kinds.get("wrong"), kinds["wrong"]
    assert len(kinds["right"]) >= 70


def test_a_difference_is_seen():
    right = np.array([1.0, np.nan, np.inf, 2.0])
    assert difference(right, right) is None
    for place, value in ((0, 1.1), (1, 0.0), (2, -np.inf), (3, np.nan)):
        other = right.copy()
        other[place] = value
        assert difference(other, right)
    assert difference(right[:2], right)


def test_every_argument_is_read_or_neutral():
    arguments = {
        "self": ("tensor", {"name": "x"}),
        "alpha": ("float", 0.5),
        "generator": ("none", None),
        "layout": ("layout", 7),
    }
    call = Call("torch.ops.aten.invented.default", arguments, ("y",), "layer")
    assert unread_arguments(call, {"self"}) == ["alpha"]
    assert unread_arguments(call, {"self", "alpha"}) == []
    sparse = Call(call.target, {**arguments, "layout": ("layout", 1)}, ("y",), "layer")
    assert unread_arguments(sparse, {"self", "alpha"}) == ["layout"]
    assert (
        unread_arguments(Call("torch.ops.aten.gather.default", {"sparse_grad": ("bool", True)}, ("y",), "l"), set())
        == []
    )


def test_an_unread_argument_is_refused_by_name(tmp_path, monkeypatch):
    monkeypatch.setitem(HANDLERS, "aten.elu.default", lambda call: call.step("Elu", call.tensor("self"), alpha=1.0))
    kind, detail = became(lambda x: F.elu(x, 0.5), tmp_path)
    assert kind == "refused" and "alpha = 0.5" in detail


# The other framework


def test_settings_note_what_was_read():
    settings = Settings(
        "Dense", {"name": "d", "units": 3, "activation": "relu", "kernel_initializer": {}, "odd": 4, "none": None}
    )
    assert unread_settings(settings) == ["activation", "odd"]
    assert settings.get("odd") == 4 and settings["activation"] == "relu" and unread_settings(settings) == []
    assert unread_settings(Settings("LSTM", {"stateful": True, "units": 3})) == ["stateful"]
    assert unread_settings(Settings("LSTM", {"stateful": False})) == []
    assert unread_settings(Settings("Conv2D", {"data_format": "channels_first"})) == ["data_format"]
    places = Positional([1, 2, 3])
    assert places[1] == 2 and places.read == {1} and list(places) == [1, 2, 3] and places.read == {0, 1, 2}


@pytest.fixture(scope="module")
def keras():
    return pytest.importorskip("keras")


def of_image(make, keras, shape=(6, 4)):
    image = keras.Input(shape)
    return keras.Model(image, make(image))


def judged(make, keras, tmp_path, shape=(6, 4)):
    from arguments_keras import outcome as of_keras

    return of_keras(of_image(make, keras, shape), shape, tmp_path)


def cases(keras):
    layers, ops = keras.layers, keras.ops
    yield "elu with alpha", lambda x: ops.elu(x, 0.4), "right"
    yield "celu with alpha", lambda x: ops.celu(x, 0.4), "right"
    yield "celu with a negative alpha", lambda x: ops.celu(x, -0.4), "refused"
    yield "hard_shrink with a threshold", lambda x: ops.hard_shrink(x, 0.9), "right"
    yield "soft_shrink with a threshold", lambda x: ops.soft_shrink(x, 0.9), "right"
    yield "squareplus with b", lambda x: ops.squareplus(x, 2.0), "right"
    yield "normalize with an epsilon", lambda x: ops.normalize(x * 1e-3, -1, 2, 0.1), "right"
    yield "normalize of order 1", lambda x: ops.normalize(x, -1, 1), "right"
    yield "normalize of order 3", lambda x: ops.normalize(x, -1, 3), "refused"
    yield "max with an initial value", lambda x: ops.max(x, 1, initial=0.7), "right"
    yield "min with an initial value", lambda x: ops.min(x, 1, initial=-0.7), "right"
    yield "round to decimals", lambda x: ops.round(x, 1), "right"
    yield "roll along two axes", lambda x: ops.roll(x, 1, (1, 2)), "right"
    yield "leaky_relu with a slope", lambda x: ops.leaky_relu(x, 0.4), "right"
    yield "gelu without the approximation", lambda x: ops.gelu(x, False), "right"
    yield (
        "attention along one of two axes",
        lambda x: layers.MultiHeadAttention(2, 3, attention_axes=(1,))(x, x),
        "right",
    )
    yield "masked attention", lambda x: layers.MultiHeadAttention(2, 3)(x, x, use_causal_mask=True), "right"
    yield (
        "a mask of a tensor",
        lambda x: layers.MultiHeadAttention(2, 3)(x, x, attention_mask=ops.matmul(x, ops.transpose(x, (0, 2, 1)))),
        "refused",
    )
    yield "plain attention with a causal mask", lambda x: layers.Attention()([x, x], use_causal_mask=True), "right"
    yield (
        "additive attention with a causal mask",
        lambda x: layers.AdditiveAttention()([x, x], use_causal_mask=True),
        "right",
    )
    yield "a state to begin with", lambda x: layers.LSTM(4)(x, initial_state=[x[:, 0], x[:, 1]]), "refused"
    yield "a state to begin with, gated", lambda x: layers.GRU(4)(x, initial_state=x[:, 0]), "refused"
    yield "a stateful layer", lambda x: layers.LSTM(3, return_sequences=True)(x), "right"
    yield "a layer on two tensors", lambda x: layers.ELU()(ops.stack([x, x], 1)), "right"
    yield (
        "batch normalisation without a scale",
        lambda x: layers.BatchNormalization(scale=False, epsilon=0.3)(x),
        "right",
    )
    yield "layer normalisation of two axes", lambda x: layers.LayerNormalization(axis=(1, 2), center=False)(x), "right"
    yield "a dense layer with an activation", lambda x: layers.Dense(3, "hard_sigmoid", use_bias=False)(x), "right"
    yield "a causal convolution", lambda x: layers.Conv1D(3, 2, padding="causal", dilation_rate=2)(x), "right"
    yield "relu of all kinds", lambda x: layers.ReLU(0.8, 0.2, 0.1)(x), "right"
    yield "softmax along another axis", lambda x: layers.Softmax(axis=1)(x), "right"
    yield "pooling with pads", lambda x: layers.MaxPooling1D(3, 2, "same")(x), "right"
    yield "spatial dropout", lambda x: layers.SpatialDropout1D(0.4)(x), "right"
    yield "noise", lambda x: layers.GaussianNoise(0.4)(x), "right"


@pytest.mark.jax
@pytest.mark.slow
def test_arguments_of_the_other_framework(keras, tmp_path):
    needs_jax()
    wrong = []
    for name, make, expected in cases(keras):
        kind, detail = judged(make, keras, tmp_path)
        if kind not in expected.split():
            wrong.append((name, kind, detail))
    assert not wrong, wrong


def test_both_axes_of_an_image_are_needed(keras, tmp_path):
    kind, detail = judged(
        lambda x: keras.layers.MultiHeadAttention(2, 3, attention_axes=(1,))(x, x), keras, tmp_path, (4, 3, 4)
    )
    assert kind == "refused" and "some of its axes" in detail


def test_training_that_was_asked_for_in_the_call_is_refused(tmp_path):
    """In the second age a call as in training stayed one, whatever the model was asked for."""
    import json

    import h5py

    layers = [
        {
            "class_name": "InputLayer",
            "name": "i",
            "config": {"name": "i", "batch_input_shape": [None, 3]},
            "inbound_nodes": [],
        },
        {
            "class_name": "Dropout",
            "name": "d",
            "config": {"name": "d", "rate": 0.5, "trainable": True},
            "inbound_nodes": [[["i", 0, 0, {"training": True}]]],
        },
    ]
    config = {"name": "m", "layers": layers, "input_layers": [["i", 0, 0]], "output_layers": [["d", 0, 0]]}
    with h5py.File(tmp_path / "m.h5", "w") as file:
        file.attrs["model_config"] = json.dumps({"class_name": "Functional", "config": config})
        file.attrs["keras_version"] = "2.13.1"
        file.create_group("model_weights")
    with pytest.raises(SourceError, match="called in training mode"), read_source(tmp_path / "m.h5"):
        pass
    done = called("convert", "m.h5", "-o", "m.onnx", cwd=tmp_path)
    assert done.returncode == 2 and not (tmp_path / "m.onnx").exists()
