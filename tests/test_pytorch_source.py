"""Captured programs: small modules through the live framework, then read, converted and run without it."""

import json
import zipfile

import numpy as np
import pytest
import torch
from conftest import capture, differences, liven
from hypothesis import given, settings
from hypothesis import strategies as st
from torch import nn

from zygal.errors import SourceError, UnknownOperators
from zygal.sources import read_source, source_facts
from zygal.sources.pytorch.memory_layout import Layout
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


def more_activations(x):
    y = (
        F.celu(x, 0.7)
        + F.selu(x)
        + F.prelu(x, torch.tensor([0.3]))
        + F.softplus(x, 2)
        + F.logsigmoid(x)
        + F.softsign(x)
    )
    y = y + F.hardshrink(x, 0.2) + F.softshrink(x, 0.3) + F.threshold(x, 0.1, -0.5) + F.tanhshrink(x) + F.rrelu(x)
    return y + F.glu(torch.cat([x, x * 2], 1), 1) + torch.rsqrt(x.abs() + 1) + torch.log1p(x.abs()) + torch.sin(x).cos()


def comparisons(x):
    y = torch.where(x > 0.1, x, -x * 0.5) + torch.where((x <= 0) & ~(x < -1), 1.0, x) + torch.maximum(x, x.flip(1))
    y = y + x.masked_fill(x.eq(x.amax(1, True)), 0.5) + (x >= 0).float() + torch.minimum(x, x * x) + x.ne(0) * 2
    y = y + torch.floor(x * 3) / 7 + x.sign() * torch.ceil(x) + torch.remainder(x, 0.7) * 0.01
    return y + torch.lerp(x, x * 2, 0.3) + torch.addcmul(x, x, x, value=0.1) + x.pow(torch.tensor(2.0)) + 2.0**x


def rarer(x):
    y = (
        torch.tan(x * 0.3)
        + torch.log2(x.abs() + 1)
        + torch.log10(x.abs() + 1)
        + torch.trunc(x * 2) * 0.1
        + torch.frac(x) * 0.1
    )
    y = y + torch.sigmoid(x).logit(0.01) + torch.fmod(x, 0.7) * 0.01 + x.flatten(2).mT.mean(1)[:, :, None, None]
    y = (
        y
        + x.mean((2, 3), True).broadcast_to(x.shape)
        + (x > 2).any(1, keepdim=True) * 0.5
        + (x > -1).all(1, keepdim=True) * 0.5
    )
    return torch.hstack([y, x.moveaxis(1, 2).moveaxis(2, 1)])


def reductions(x):
    y = [x.std((2, 3)), x.var((2, 3), unbiased=False), x.norm(dim=(2, 3)), x.norm(p=1, dim=(2, 3)), x.logsumexp((2, 3))]
    y += [x.amin((2, 3)), x.max(dim=2)[0].min(dim=2).values, x.argmax(1).float().mean((1, 2)).unsqueeze(1)]
    y += list(torch.var_mean(x, dim=(2, 3), correction=1)) + [
        F.normalize(x.mean((2, 3)), dim=1),
        x.cumsum(2).mean((2, 3)),
    ]
    return torch.cat([*y, x.flatten(1).topk(5).values, x.mean((2, 3)).sort(1, descending=True)[0]], 1)


def picking(x):
    a, b = x.chunk(2, 1)
    parts = x.split([3, 4, 1], dim=1)
    y = torch.cat([parts[2], parts[0], a[:, 1:3, ::2, 1:-1:3].mean((2, 3), True).expand(-1, -1, 16, 16), b], 1)
    y = y + x[:, [1, 0, 3, 2, 5, 4, 7, 6, 0, 1]] + x.select(1, 3).unsqueeze(1) + torch.roll(x, (3, -2), (2, 3))[:, :1]
    z = torch.stack(x.unbind(1), 2)[:, :, torch.tensor([0, 2]), :].sum(2)
    table = torch.arange(16).unsqueeze(0) + torch.arange(16).unsqueeze(1)
    w = x.flatten(2)[:, :, table.view(-1) % 200].view(-1, 8, 16, 16).index_select(1, torch.tensor([1, 2]))
    g = x.gather(3, x.argmax(3, keepdim=True).expand(-1, -1, -1, 2))
    return torch.cat(
        [y.flatten(1), z.flatten(1), w.flatten(1), g.flatten(1), x.unfold(2, 4, 3).mean((3, 4)).flatten(1)], 1
    )


def all_images(x):
    """An index of all images beside indices of other axes, each of which varies along its own axis alone."""
    images, channels = torch.arange(x.shape[0]).view(-1, 1, 1, 1), torch.arange(x.shape[1]).view(1, -1, 1, 1)
    rows, columns = torch.tensor([3, 0, 0, -1]).view(1, 1, -1, 1), torch.arange(1, 9, 2).view(1, 1, 1, -1)
    y = x[images, channels, rows, columns] + x[images, channels.flip(1), rows, torch.tensor([[[[5]]]])]
    return y.flatten(1)


def shuffles(x):
    y = F.channel_shuffle(x, 4) + F.pixel_unshuffle(F.pixel_shuffle(x, 2), 2) + x.repeat_interleave(2, 1)[:, ::2]
    y = (
        y
        + x.movedim(1, -1).swapaxes(1, 3).transpose(2, 3).unflatten(1, (2, 4)).flatten(1, 2)
        + x.repeat(1, 2, 1, 1)[:, 8:]
    )
    columns = F.unfold(x, 3, padding=1, stride=2)
    return torch.cat(
        [
            y.flatten(1),
            columns.mean(2),
            torch.tile(x.mean((2, 3)), (1, 2)),
            F.pad(x, (1, 2, 0, 1), "circular").sum(1).flatten(1),
        ],
        1,
    )


def created(x):
    batch = x.shape[0]
    grid = torch.stack(torch.meshgrid(torch.linspace(-1, 1, 16), torch.arange(16.0), indexing="ij"))
    token = torch.full((1, 1, 16), 0.3).expand(batch, -1, -1)
    rows = torch.cat([token, x.mean(1), torch.zeros(batch, 1, 16), torch.ones_like(token)], 1)
    mask = torch.ones(19, 19).tril().bool()
    scores = (rows @ rows.transpose(1, 2) * 0.1).masked_fill(~mask, float("-inf")).softmax(-1)
    return torch.cat(
        [(x + grid[0]).mean(2).flatten(1), scores.flatten(1), (x * torch.eye(16) + grid[1]).sum((2, 3))], 1
    )


def resamplings(x):
    y = [
        F.interpolate(x, scale_factor=2),
        F.interpolate(x, (32, 48), mode="bilinear"),
        F.interpolate(x, scale_factor=2, mode="nearest-exact"),
    ]
    y += [F.interpolate(x, (32, 32), mode="bilinear", align_corners=True), F.interpolate(x, (7, 23), mode="bicubic")]
    y += [
        F.interpolate(x, scale_factor=1.7, mode="bilinear"),
        F.interpolate(x, (5, 29)),
        F.interpolate(x, scale_factor=0.4, mode="bicubic"),
    ]
    y += [
        F.interpolate(x, (6, 9), mode="bilinear", antialias=True),
        F.interpolate(x, (9, 40), mode="bicubic", antialias=True),
    ]
    y += [
        F.interpolate(x, (5, 11), mode="bilinear", align_corners=True),
        F.adaptive_avg_pool2d(x, (3, 7)),
        F.adaptive_max_pool2d(x, (4, 8)),
    ]
    y += [F.interpolate(x, (11, 33), mode="nearest-exact"), F.interpolate(x.flatten(2), 77, mode="linear").unsqueeze(3)]
    return torch.cat(
        [
            F.avg_pool2d(each, 3, 3, 1 if min(each.shape[2:]) > 1 else (1, 0), ceil_mode=True).flatten(1)
            if each.shape[3] > 1
            else each.flatten(1)
            for each in y
        ],
        1,
    )


def attentions(x):
    rows = x.flatten(2).transpose(1, 2)
    heads = rows.unflatten(2, (2, 4)).transpose(1, 2)
    y = F.scaled_dot_product_attention(heads, heads * 0.7, heads, scale=0.3)
    y = y + F.scaled_dot_product_attention(heads, heads, heads, attn_mask=torch.ones(256, 256).tril() * 0.5)
    y = y + F.scaled_dot_product_attention(heads, heads, heads, is_causal=True)
    z = torch.einsum("bhid,bhjd->bhij", y, heads).softmax(-1) @ heads
    z = z + torch.einsum("b...d,dk->b...k", z, torch.eye(4) + 0.1)
    return torch.cat(
        [y.transpose(1, 2).flatten(2), z.flatten(1, 2).unflatten(1, (256, 2)).flatten(2)], 2
    ) @ torch.linspace(0, 1, 16)


def written_parts(x):
    """Writes through slices, selections and reshaped views, and a mask that is built as windowed attention does."""
    y = x * 1.5
    y[:, :2] = x[:, 2:4] + 1
    y[:, 5, 3:7] *= 0.2
    rows = y.view(y.shape[0], 8, -1)
    rows[:, 1:3].relu_()
    rows.transpose(1, 2)[:, :, 4].add_(0.5)
    regions = torch.zeros(1, 16, 16, 1)
    for count, place in enumerate((slice(0, -4), slice(-4, -2), slice(-2, None))):
        regions[:, place, :, :] += count
    mask = regions.view(1, 4, 4, 4, 4, 1).permute(0, 1, 3, 2, 4, 5).reshape(-1, 16)
    mask = mask.unsqueeze(1) - mask.unsqueeze(2)
    mask = mask.masked_fill(mask != 0, -1.0)
    windows = y.view(-1, 8, 4, 4, 4, 4).permute(0, 2, 4, 3, 5, 1).reshape(-1, 16, 8)
    weights = windows @ windows.transpose(1, 2)
    weights = weights.view(-1, 16, 16, 16) + mask.unsqueeze(0)
    return (weights.view(-1, 16, 16).softmax(-1) @ windows).view(x.shape[0], -1, 8)


def written_copies(x):
    """What was copied is written alone; what shares memory is seen written."""
    y = x * 1.5
    turned = y.permute(0, 2, 3, 1)
    turned.contiguous().relu_()
    turned.reshape(x.shape[0], -1).mul_(7)
    z = x + 0.5
    z.contiguous().mul_(0.3)
    z.reshape(x.shape[0], -1).relu_()
    z.flatten(2).add_(0.1)
    w = x - 0.2
    w.to(torch.float64).relu_()
    w.clone().mul_(9)
    return torch.cat([y, z, w], 1)


def normalisations(x):
    y = F.group_norm(x, 4, torch.linspace(0.5, 1.5, 8), torch.linspace(-1, 1, 8)) + F.instance_norm(x)
    y = y + F.local_response_norm(x, 3) + F.rms_norm(x, (16,)) + F.layer_norm(x, (8, 16, 16))
    return y + F.conv_transpose2d(
        F.avg_pool2d(x, 2), torch.linspace(-1, 1, 8 * 2 * 9).view(8, 2, 3, 3), None, 2, 1, 1, groups=4
    )


FUNCTIONS = [
    activations,
    more_activations,
    rarer,
    arithmetic,
    comparisons,
    reductions,
    shapes,
    picking,
    all_images,
    shuffles,
    created,
    resamplings,
    poolings,
    padded_modes,
    in_place,
    written_parts,
    products,
    attentions,
    normalisations,
]


@pytest.mark.alike
@pytest.mark.parametrize("function", FUNCTIONS, ids=[function.__name__ for function in FUNCTIONS])
def test_operators_keep_their_meaning(function, tmp_path):
    check_meaning(Code(function), tmp_path)


def check_meaning(module, tmp_path, shape=(3, 32, 32)):
    """Before the passes, after them and on the runtime, the scores are the framework's."""
    module(torch.zeros(2, *shape))
    path = capture(liven(module), tmp_path / "module.pt2", shape)
    assert differences(path, tmp_path, module, shape).max() < 2e-6


def layers():
    yield (
        "convolutions",
        nn.Sequential(
            nn.Conv2d(3, 12, (3, 5), 2, (1, 2), bias=False),
            nn.BatchNorm2d(12),
            nn.ReLU(inplace=True),
            nn.Conv2d(12, 24, 3, padding="same", dilation=2, groups=4),
            nn.BatchNorm2d(24, eps=1e-2),
            nn.ReLU6(),
            nn.Conv2d(24, 24, 2, padding="valid", groups=24),
            nn.BatchNorm2d(24, affine=False),
            nn.Hardswish(),
            nn.Dropout(0.3),
            nn.AdaptiveAvgPool2d(1),
            nn.Flatten(),
            nn.Linear(24, 5),
            nn.BatchNorm1d(5),
        ),
    )
    yield (
        "patches",
        nn.Sequential(
            nn.Conv2d(3, 16, 8, 8),
            nn.Flatten(2),
            nn.LayerNorm(16),
            nn.Linear(16, 8, bias=False),
            nn.GELU(),
            nn.LayerNorm((16, 8), elementwise_affine=False),
            nn.Linear(8, 4),
            nn.Flatten(),
            nn.Linear(64, 5),
            nn.Softmax(-1),
        ),
    )
    yield (
        "normalised twice",
        nn.Sequential(
            nn.BatchNorm2d(3),
            nn.Conv2d(3, 6, 3),
            nn.BatchNorm2d(6),
            nn.BatchNorm2d(6),
            nn.Conv2d(6, 6, 1),
            nn.Identity(),
            nn.BatchNorm2d(6),
            nn.AvgPool2d(5),
            nn.Flatten(),
            nn.LazyLinear(5),
        ),
    )


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
            return self.inner(y, torch.special.i0(y))

    path = capture(Strange(), tmp_path / "strange.pt2")
    with pytest.raises(UnknownOperators) as fault, read_source(path):
        pass
    assert set(fault.value.layers) == {"aten.fft_rfft.default", "aten.special_i0.default"}
    assert fault.value.layers["aten.special_i0.default"] == ["special_i0"]


def written_through_windows(x):
    y = x + 1
    y.unfold(2, 4, 4)[:, 0].relu_()
    return y


REFUSED = {
    "writes in place through unfold": written_through_windows,
    "mix the images": lambda x: x - x.mean((0, 2, 3), keepdim=True),
    "selects one image": lambda x: x + x[0],
    "selects images": lambda x: x[torch.arange(x.shape[0]).view(-1, 1)].flatten(1),
    "selects images of": lambda x: x.flatten(2)[torch.arange(x.shape[0]), torch.tensor([[1]])].reshape(-1, 8),
    "the places of the images": lambda x: x * torch.arange(x.shape[0]).view(-1, 1, 1, 1),
    "selects images of the batch": lambda x: x[torch.arange(x.shape[0]).view(-1, 1), x.mean((2, 3)).argsort(1)],
}


@pytest.mark.parametrize("words, function", REFUSED.items())
def test_what_cannot_be_converted_is_refused_with_its_reason(words, function, tmp_path):
    path = capture(Code(function), tmp_path / "refused.pt2")
    with pytest.raises(SourceError, match=f"layer .*{words}"), read_source(path):
        pass


def test_training_mode_becomes_inference(tmp_path):
    module = nn.Sequential(nn.Conv2d(3, 4, 3), nn.BatchNorm2d(4), nn.Dropout(0.5), nn.Flatten(), nn.Linear(144, 5))
    program = torch.export.export(liven(module).train(), (torch.randn(2, 3, 8, 8),))
    torch.export.save(program, tmp_path / "training.pt2")
    with read_source(tmp_path / "training.pt2") as source:
        assert any("training mode" in note for note in source.notes)
    assert differences(tmp_path / "training.pt2", tmp_path, module.eval(), (3, 8, 8)).max() < 2e-6


def test_other_schema_versions_are_said(shipped, tmp_path):
    path = tmp_path / "channel_marks.pt2"
    path.write_bytes((shipped / "channel_marks.pt2").read_bytes())
    rewrite(path, "model", lambda text: json.dumps(json.loads(text) | {"schema_version": {"major": 9, "minor": 1}}))
    with pytest.raises(SourceError, match="schema 9.*schemas 1, 2, 5, 7, 8"), read_source(path):
        pass


def test_in_place_names():
    assert operator_name("torch.ops.aten.relu_.default") == ("aten.relu.default", True)
    assert operator_name("torch.ops.aten.detach_.default") == ("aten.detach_.default", False)


@settings(max_examples=200, deadline=None)
@given(st.lists(st.tuples(st.integers(1, 4), st.booleans()), min_size=1, max_size=4), st.randoms(use_true_random=False))
def test_whether_a_reshape_copies_is_the_frameworks_answer(axes, chance):
    tensor = torch.zeros([size * (1 + wide) for size, wide in axes])
    tensor = tensor[tuple(slice(size) for size, _ in axes)].permute(chance.sample(range(len(axes)), len(axes)))
    left, wanted = tensor.numel(), []
    while left > 1 and chance.random() < 0.8:
        wanted.append(chance.choice([part for part in range(1, left + 1) if left % part == 0]))
        left //= wanted[-1]
    wanted.append(left)
    shares = tensor.reshape(wanted).untyped_storage().data_ptr() == tensor.untyped_storage().data_ptr()
    layout = Layout(tuple(tensor.shape), tensor.stride())
    assert layout.keeps_memory_as(tuple(wanted)) == shares
    assert layout.is_dense() == tensor.is_contiguous()
