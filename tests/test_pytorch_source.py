"""Captured programs: small modules through the live framework, then read, converted and run without it."""

import json
import zipfile

import numpy as np
import pytest
import torch
from conftest import capture, differences, liven
from torch import nn

from zygal.errors import SourceError, UnknownOperators
from zygal.sources import read_source, source_facts
from zygal.sources.pytorch.translate import operator_name

F = nn.functional


class Code(nn.Module):
    """A module that does what a function of a convolution's result does, so that the scores depend on it."""

    def __init__(self, function, channels=8):
        super().__init__()
        self.stem = nn.Conv2d(3, channels, 3, 2, 1)
        self.function = function
        self.head = nn.LazyLinear(5)

    def forward(self, x):
        return self.head(torch.flatten(self.function(self.stem(x)), 1))


def activations(x):
    y = F.relu(x) + F.relu6(x * 3) + F.hardtanh(x, -0.3, 0.7) + F.leaky_relu(x, 0.2) + F.elu(x, 0.7)
    y = y + torch.sigmoid(x) + torch.tanh(x) + F.silu(x) + F.mish(x) + F.hardswish(x) + F.hardsigmoid(x)
    y = y + F.gelu(x) + F.gelu(x, approximate="tanh") + torch.clamp(x, -0.4, 0.9) + torch.clamp_min(x, 0.1)
    return y + torch.softmax(x, 1) + F.log_softmax(x, -1) * 0.1 + torch.erf(x)


def arithmetic(x):
    y = torch.add(x, x.abs(), alpha=2) - torch.sub(x, 1.5, alpha=0.5) + (2 - x) * 0.25 + x / 3 + -x
    return (
        y + (x.abs() + 1).sqrt() + torch.exp(x * 0.1) + x**2 + torch.reciprocal(x.abs() + 2) + x * x.mean((2, 3), True)
    )


def shapes(x):
    batch, channels = x.shape[:2]
    y = x.view(batch, 2, channels // 2, *x.shape[2:]).transpose(1, 2).reshape(batch, channels, *x.shape[2:])
    z = torch.cat([y, x.permute(0, 1, 3, 2).contiguous()], dim=1).flatten(2)
    z = z.unsqueeze(1).squeeze(1).squeeze(2).transpose(-1, -2)
    return F.pad(z, (1, 2)) + F.pad(z, (0, 3), value=0.5)


def poolings(x):
    y = F.max_pool2d(x, 3, 2, 1) + F.avg_pool2d(x, 3, 2, 1) + F.avg_pool2d(x, 3, 2, 1, count_include_pad=False)
    y = torch.cat([F.max_pool2d(x, 2, 2, ceil_mode=True), F.adaptive_avg_pool2d(x, 8), y], 1)
    return torch.cat([y.mean((2, 3)), y.amax((2, 3)), y.sum((2, 3)), F.adaptive_avg_pool2d(y, (2, 4)).flatten(1)], 1)


def padded_modes(x):
    return F.pad(x, (1, 2, 3, 4), mode="reflect") + F.pad(x, (2, 1, 4, 3), mode="replicate")


def in_place(x):
    y = x + 1
    y.relu_()
    y.mul_(0.5).add_(x)
    return F.hardswish(y, inplace=True) + y


def products(x):
    rows = x.flatten(2)
    attention = torch.softmax(torch.matmul(rows, rows.transpose(1, 2)) * 0.1, -1)
    return torch.bmm(attention, rows)


FUNCTIONS = [activations, arithmetic, shapes, poolings, padded_modes, in_place, products]


@pytest.mark.parametrize("function", FUNCTIONS, ids=[function.__name__ for function in FUNCTIONS])
def test_operators_keep_their_meaning(function, tmp_path):
    check_meaning(Code(function), tmp_path)


def check_meaning(module, tmp_path, shape=(3, 32, 32)):
    """Before the passes, after them and on the runtime, the scores are the framework's."""
    module(torch.zeros(2, *shape))
    path = capture(liven(module), tmp_path / "module.pt2", shape)
    assert differences(path, tmp_path, module, shape).max() < 2e-6


def layers():
    yield "convolutions", nn.Sequential(
        nn.Conv2d(3, 12, (3, 5), 2, (1, 2), bias=False), nn.BatchNorm2d(12), nn.ReLU(inplace=True),
        nn.Conv2d(12, 24, 3, padding="same", dilation=2, groups=4), nn.BatchNorm2d(24, eps=1e-2), nn.ReLU6(),
        nn.Conv2d(24, 24, 2, padding="valid", groups=24), nn.BatchNorm2d(24, affine=False), nn.Hardswish(),
        nn.Dropout(0.3), nn.AdaptiveAvgPool2d(1), nn.Flatten(), nn.Linear(24, 5), nn.BatchNorm1d(5))  # fmt: skip
    yield "patches", nn.Sequential(
        nn.Conv2d(3, 16, 8, 8), nn.Flatten(2), nn.LayerNorm(16), nn.Linear(16, 8, bias=False), nn.GELU(),
        nn.LayerNorm((16, 8), elementwise_affine=False), nn.Linear(8, 4), nn.Flatten(), nn.Linear(64, 5),
        nn.Softmax(-1))  # fmt: skip
    yield "normalised twice", nn.Sequential(
        nn.BatchNorm2d(3), nn.Conv2d(3, 6, 3), nn.BatchNorm2d(6), nn.BatchNorm2d(6), nn.Conv2d(6, 6, 1),
        nn.Identity(), nn.BatchNorm2d(6), nn.AvgPool2d(5), nn.Flatten(), nn.LazyLinear(5))  # fmt: skip


@pytest.mark.parametrize("name, module", list(layers()), ids=[name for name, _ in layers()])
def test_layers_keep_their_meaning(name, module, tmp_path):
    check_meaning(module, tmp_path)


@pytest.mark.parametrize("dtype", [torch.float16, torch.bfloat16, torch.float64])
def test_other_weight_widths_are_computed_in_float32(dtype, tmp_path):
    class Widened(nn.Module):
        def __init__(self):
            super().__init__()
            self.weight = nn.Parameter(torch.randn(5, 48).to(dtype).to(torch.float32))

        def forward(self, x):
            return F.linear(torch.flatten(x, 1), self.weight)

    module = Widened()
    path = capture(module, tmp_path / "wide.pt2", shape=(3, 4, 4))
    narrow(path, dtype, module.weight)
    with read_source(path) as source:
        assert any("float32" in note for note in source.notes)
        assert np.array_equal(source.graph.constants["p_weight"], module.weight.detach().numpy())


def narrow(path, dtype, weight):
    """Stores the program's only weight in another dtype, as a model that was cast before the capture has it."""
    number = {torch.float16: 6, torch.bfloat16: 13, torch.float64: 8}[dtype]
    rewrite(path, "weights_config.json", lambda t: t.replace('"dtype": 7', f'"dtype": {number}'))
    rewrite(path, "model", lambda t: t.replace('"p_weight": {"dtype": 7', f'"p_weight": {{"dtype": {number}'))
    raw = weight.detach().to(dtype).contiguous().view(torch.uint8).numpy().tobytes()
    rewrite(path, "weight_0", lambda _: raw)


def rewrite(path, ending, change):
    """Replaces what the members of an archive whose names end so contain."""
    with zipfile.ZipFile(path) as archive:
        members = {name: archive.read(name) for name in archive.namelist()}
    with zipfile.ZipFile(path, "w") as archive:
        for name, content in members.items():
            stem = name.removesuffix(".json") if name.endswith(f"{path.stem}.json") else name
            if stem.endswith(ending) or (ending == "model" and "/models/" in name):
                changed = change(content.decode() if name.endswith(".json") else content)
                content = changed.encode() if isinstance(changed, str) else changed
            archive.writestr(name, content)


def test_strided_and_shared_weights(tmp_path):
    strided = nn.Sequential(nn.Conv2d(3, 4, 3), nn.Flatten(), nn.Linear(144, 5)).to(memory_format=torch.channels_last)
    check_meaning(strided, tmp_path, (3, 8, 8))
    tied = nn.Sequential(nn.Conv2d(3, 4, 3), nn.Conv2d(4, 4, 3), nn.Conv2d(4, 4, 3), nn.Flatten(), nn.LazyLinear(5))
    tied[2].weight = tied[1].weight
    check_meaning(tied, tmp_path, (3, 8, 8))


def test_facts_and_layer_names(shipped):
    facts = source_facts(shipped / "channel_marks.pt2")
    assert facts.parameters == 56280 and facts.operators["aten.conv2d.default"] == 24
    assert "features.2.depthwise.0" in facts.layers and facts.scores == "logits"
    with read_source(shipped / "channel_marks.pt2") as source:
        convolutions = [node.layer for node in source.graph.nodes if node.operator == "Conv"]
        assert convolutions[:2] == ["stem.0", "residual.first.0"] and len(convolutions) == 24
        # Weights are views of the file until somebody needs them.
        assert all(is_mapped(array) for array in source.graph.constants.values())


def is_mapped(array):
    while array is not None and not isinstance(array, np.memmap):
        array = getattr(array, "base", None)
    return array is not None


def test_unknown_operators_are_named_all_at_once(tmp_path):
    class Strange(nn.Module):
        def __init__(self):
            super().__init__()
            self.inner = nn.Bilinear(8, 8, 5)

        def forward(self, x):
            y = torch.fft.rfft(x.flatten(1)).abs()[:, :8]
            return self.inner(y, torch.cumsum(y, 1))

    path = capture(Strange(), tmp_path / "strange.pt2")
    with pytest.raises(UnknownOperators) as fault, read_source(path):
        pass
    assert {"aten.fft_rfft.default", "aten.cumsum.default", "aten.bilinear.default"} <= set(fault.value.layers)
    assert fault.value.layers["aten.bilinear.default"] == ["inner"]


def written_through_a_view(x):
    y = x + 1
    y.flatten(1).relu_()
    return y


REFUSED = {
    "writes in place": written_through_a_view,
    "unequal size": lambda x: F.adaptive_avg_pool2d(x, 3),
    "mix the images": lambda x: x - x.mean((0, 2, 3), keepdim=True),
}


@pytest.mark.parametrize("words, function", REFUSED.items())
def test_what_cannot_be_converted_is_refused_with_its_reason(words, function, tmp_path):
    path = capture(Code(function), tmp_path / "refused.pt2")
    with pytest.raises(SourceError, match=f"layer .*{words}"), read_source(path):
        pass


def test_training_mode_is_refused(tmp_path):
    module = nn.Sequential(nn.Conv2d(3, 4, 3), nn.BatchNorm2d(4), nn.Flatten(), nn.LazyLinear(5))
    module(torch.zeros(2, 3, 8, 8))
    program = torch.export.export(module.train(), (torch.randn(2, 3, 8, 8),))
    torch.export.save(program, tmp_path / "training.pt2")
    with pytest.raises(SourceError, match="layer 1 .*training mode"), read_source(tmp_path / "training.pt2"):
        pass


def test_other_schema_versions_are_said(shipped, tmp_path):
    path = tmp_path / "channel_marks.pt2"
    path.write_bytes((shipped / "channel_marks.pt2").read_bytes())
    rewrite(path, "model", lambda text: json.dumps(json.loads(text) | {"schema_version": {"major": 9, "minor": 1}}))
    with pytest.raises(SourceError, match="schema 9.*schema 8"), read_source(path):
        pass


def test_in_place_names():
    assert operator_name("torch.ops.aten.relu_.default") == ("aten.relu.default", True)
    assert operator_name("torch.ops.aten.detach_.default") == ("aten.detach_.default", False)
