"""Small models with the parts of the families that people train, captured with a dynamic and with a fixed batch.

Each is judged by the live framework at two batch sizes: before the passes, after them, and on the runtime.
"""

import pytest
import torch
from conftest import capture, differences, liven
from torch import nn

F = nn.functional


class Tokens(nn.Module):
    """Patches as tokens, something done to them, and a linear head on their mean."""

    def __init__(self, channels=32):
        super().__init__()
        self.patches, self.norm, self.head = (
            nn.Conv2d(3, channels, 8, 8),
            nn.LayerNorm(channels),
            nn.Linear(channels, 5),
        )

    def forward(self, x):
        return self.head(self.mixed(self.patches(x).flatten(2).transpose(1, 2)).mean(1))


class Attention(Tokens):
    def __init__(self):
        super().__init__()
        self.attention = nn.MultiheadAttention(32, 4, batch_first=True)

    def mixed(self, x):
        y = self.norm(x)
        return x + self.attention(y, y, y, need_weights=False)[0]


class AttentionAlongFirst(Tokens):
    def __init__(self):
        super().__init__()
        self.attention = nn.MultiheadAttention(32, 4)

    def mixed(self, x):
        y = self.norm(x).transpose(0, 1)
        return x + self.attention(y, y, y)[0].transpose(0, 1)


class Encoder(Tokens):
    def __init__(self):
        super().__init__()
        layer = nn.TransformerEncoderLayer(32, 4, 64, batch_first=True, activation="gelu", norm_first=True)
        self.layers = nn.TransformerEncoder(layer, 2, enable_nested_tensor=False)

    def mixed(self, x):
        return self.layers(x)


class TokenMixer(Tokens):
    """Linear layers along the tokens and along the channels in turn."""

    def __init__(self):
        super().__init__()
        self.along_tokens, self.along_channels = (
            nn.Linear(16, 16),
            nn.Sequential(nn.Linear(32, 64), nn.GELU(), nn.Linear(64, 32)),
        )

    def mixed(self, x):
        x = x + self.along_tokens(self.norm(x).transpose(1, 2)).transpose(1, 2)
        return x + self.along_channels(self.norm(x))


class ShiftedWindows(nn.Module):
    """Attention in shifted windows with a mask and a table of positions; the batch is found by a division."""

    def __init__(self):
        super().__init__()
        self.stem, self.qkv, self.head = nn.Conv2d(3, 8, 2, 2), nn.Linear(8, 24), nn.Linear(8, 5)
        self.table = nn.Parameter(torch.randn(49, 2))
        self.register_buffer("places", torch.randint(0, 49, (16, 16)))

    def forward(self, x):
        x = self.stem(x).permute(0, 2, 3, 1)
        batch, height, width, channels = x.shape
        x = torch.roll(x, (-2, -2), (1, 2))
        x = (
            x.view(batch, height // 4, 4, width // 4, 4, channels)
            .permute(0, 1, 3, 2, 4, 5)
            .contiguous()
            .view(-1, 16, channels)
        )
        q, k, v = self.qkv(x).reshape(x.shape[0], 16, 3, 2, 4).permute(2, 0, 3, 1, 4).unbind(0)
        bias = self.table[self.places.view(-1)].view(16, 16, -1).permute(2, 0, 1).unsqueeze(0)
        mask = torch.zeros(16, 16, 16)
        mask[3, :, 2:5] = -100
        weights = (q @ k.transpose(-2, -1) + bias).view(x.shape[0] // 16, 16, 2, 16, 16) + mask.unsqueeze(1).unsqueeze(
            0
        )
        x = (weights.view(-1, 2, 16, 16).softmax(-1) @ v).transpose(1, 2).reshape(x.shape[0], 16, channels)
        batch = int(x.shape[0] / (height * width / 4 / 4))
        x = (
            x.view(batch, height // 4, width // 4, 4, 4, -1)
            .permute(0, 1, 3, 2, 4, 5)
            .contiguous()
            .view(batch, height, width, -1)
        )
        return self.head(torch.cat([x[:, 0::2, 0::2], x[:, 1::2, 0::2]], -1)[..., :8].mean((1, 2)))


class OutlookAttention(nn.Module):
    """Patches taken apart, weighted, and added together again."""

    def __init__(self):
        super().__init__()
        self.value, self.weight, self.head = nn.Linear(3, 8), nn.Linear(3, 81), nn.Linear(8, 5)

    def forward(self, x):
        batch, _, height, width = x.shape
        rows = self.value(x.permute(0, 2, 3, 1)).permute(0, 3, 1, 2)
        rows = F.unfold(rows, 3, padding=1, stride=2).reshape(batch, 1, 8, 9, 256).permute(0, 1, 4, 3, 2)
        weights = self.weight(F.avg_pool2d(x, 2, 2, ceil_mode=True).permute(0, 2, 3, 1))
        weights = weights.reshape(batch, 256, 1, 9, 9).permute(0, 2, 1, 3, 4).softmax(-1)
        summed = (weights @ rows).permute(0, 1, 4, 3, 2).reshape(batch, 72, 256)
        return self.head(F.fold(summed, (height, width), 3, padding=1, stride=2).mean((2, 3)))


class BiasedAttention(nn.Module):
    """Normalisation over merged tokens, and attention biases picked from a table."""

    def __init__(self):
        super().__init__()
        self.stem, self.linear, self.norm = nn.Conv2d(3, 8, 4, 4), nn.Linear(8, 8, bias=False), nn.BatchNorm1d(8)
        self.biases, self.head = nn.Parameter(torch.randn(2, 64)), nn.Linear(8, 5)
        self.register_buffer("places", torch.randint(0, 64, (64, 64)))

    def forward(self, x):
        y = self.linear(self.stem(x).flatten(2).transpose(1, 2))
        y = self.norm(y.flatten(0, 1)).reshape_as(y)
        weights = (y @ y.transpose(1, 2)).unsqueeze(1) + self.biases[:, self.places]
        return self.head((weights.softmax(-1).mean(1) @ F.hardswish(y)).mean(1))


class PositionsAndClassToken(nn.Module):
    """Resized and rotating positions, a class token, attention between channels, writes into new tensors."""

    def __init__(self):
        super().__init__()
        self.stem, self.head, self.scale = (
            nn.Conv2d(3, 8, 3, 2, 1),
            nn.Linear(8, 5),
            nn.Parameter(torch.full((8,), 0.3)),
        )
        self.token, self.positions = nn.Parameter(torch.randn(1, 1, 8)), nn.Parameter(torch.randn(1, 197, 8))

    def forward(self, x):
        rows = self.stem(x).flatten(2).transpose(1, 2)
        grid = self.positions[:, 1:].reshape(1, 14, 14, 8).permute(0, 3, 1, 2)
        grid = F.interpolate(grid, size=(16, 16), mode="bicubic").permute(0, 2, 3, 1).reshape(1, 256, 8)
        rows = torch.cat([self.token.expand(x.shape[0], -1, -1), rows + grid], 1) * self.scale
        angles = torch.outer(torch.arange(257).float(), 10000 ** -(torch.arange(4, dtype=torch.float32) / 4))
        a, b = rows.chunk(2, -1)
        rows = torch.cat([a * angles.cos() - b * angles.sin(), a * angles.sin() + b * angles.cos()], -1)
        q = F.normalize(rows.transpose(1, 2), dim=-1)
        rows = rows + ((q @ q.transpose(-2, -1) * 2.0).softmax(-1) @ rows.transpose(1, 2)).transpose(1, 2)
        summary = rows.new_zeros((x.shape[0], 2, 8))
        summary[:, 0] = rows[:, 0]
        summary[:, 1] = rows[:, torch.tensor([3, 1, 2])].sum(1)
        return self.head(summary.sum(1) + rows.amax(1) + rows.std(1))


class StandardisedWeights(nn.Module):
    """Weights normalised at every call, and generalised-mean pooling."""

    def __init__(self):
        super().__init__()
        self.stem, self.gain, self.head = nn.Conv2d(3, 8, 3), nn.Parameter(torch.rand(8) + 0.5), nn.Linear(8, 5)

    def forward(self, x):
        flat = self.stem.weight.reshape(1, 8, -1)
        weight = F.batch_norm(flat, None, None, weight=self.gain * 0.3, training=True, momentum=0.0).reshape_as(
            self.stem.weight
        )
        variance, mean = torch.var_mean(weight, dim=[1, 2, 3], keepdim=True, unbiased=False)
        x = F.conv2d(x, (weight - mean) / (variance + 1e-5).sqrt(), self.stem.bias)
        return self.head(x.clamp(min=1e-3).pow(3).mean((2, 3)).pow(1 / 3))


class WithoutGradient(nn.Module):
    def __init__(self):
        super().__init__()
        self.stem, self.head = nn.Conv2d(3, 8, 3, 2), nn.Linear(8, 5)

    def forward(self, x):
        x = self.stem(x)
        with torch.no_grad():
            gate = x.mean((2, 3), keepdim=True) + 1
        return self.head((x * gate).mean((2, 3)))


class Convolutional(nn.Module):
    """A stem, one block of a family, and a linear head."""

    def __init__(self, block):
        super().__init__()
        self.stem = nn.Sequential(nn.Conv2d(3, 16, 3, 2, 1, bias=False), nn.BatchNorm2d(16), nn.ReLU(inplace=True))
        self.block, self.head = block, nn.LazyLinear(5)

    def forward(self, x):
        return self.head(self.block(self.stem(x)).mean((2, 3)))


class Branches(nn.Module):
    """Several ways at once, joined by a function."""

    def __init__(self, join, *ways):
        super().__init__()
        self.ways, self.join = nn.ModuleList(ways), join

    def forward(self, x):
        return self.join([way(x) for way in self.ways])


class Function(nn.Module):
    def __init__(self, function):
        super().__init__()
        self.function = function

    def forward(self, x):
        return self.function(x)


def together(outputs):
    return torch.cat(outputs, 1)


def shuffled(x):
    return x.view(x.shape[0], 2, x.shape[1] // 2, *x.shape[2:]).transpose(1, 2).contiguous().view(x.shape)


def norm(channels):
    return nn.BatchNorm2d(channels)


BLOCKS = {
    "residual": Branches(sum, nn.Identity(), nn.Sequential(nn.Conv2d(16, 16, 3, 1, 1), norm(16), nn.ReLU(),
    nn.Conv2d(16, 16, 1))),
    "pre-activated": nn.Sequential(norm(16), nn.ReLU(), nn.Conv2d(16, 16, 3, 1, 1), norm(16), nn.ReLU(), nn.Conv2d(16,
    8, 1)),
    "dense": nn.Sequential(*(Branches(together, nn.Identity(), nn.Sequential(norm(c), nn.ReLU(), nn.Conv2d(c, 8, 3, 1,
    1)))
                             for c in (16, 24, 32)), nn.AvgPool2d(2)),
    "inception": Branches(together, nn.Conv2d(16, 4, 1), nn.Conv2d(16, 4, (1, 7), padding=(0, 3)), nn.MaxPool2d(3, 1,
    1),
                          nn.Sequential(nn.AvgPool2d(3, 1, 1, count_include_pad=False), nn.Conv2d(16, 4, 1))),
    "shuffle": nn.Sequential(nn.Conv2d(16, 16, 1, groups=2), Function(shuffled), nn.Conv2d(16, 16, 3, 2, 1, groups=16),
    norm(16),
                             Function(lambda x: torch.cat([x.chunk(2, 1)[1], x.chunk(2, 1)[0] * 2], 1))),
    "re-parameterised": nn.Sequential(Branches(sum, norm(16), nn.Sequential(nn.Conv2d(16, 16, 3, 1, 1, bias=False),
    norm(16)),
                                               nn.Sequential(nn.Conv2d(16, 16, 1, bias=False), norm(16))), nn.SiLU()),
    "high resolution": Branches(sum, nn.Conv2d(16, 8, 1), nn.Sequential(nn.Conv2d(16, 8, 3, 2, 1),
    nn.Upsample(scale_factor=2)),
                                nn.Sequential(nn.Conv2d(16, 8, 3, 4, 1), nn.Upsample(size=(16, 16), mode="bilinear"))),
    "large kernel": Branches(sum, nn.Identity(), nn.Sequential(nn.Conv2d(16, 16, 13, 1, 6, groups=16), norm(16),
    nn.GELU(),
                                                               nn.Conv2d(16, 16, 7, 1, 9, dilation=3, groups=16))),
    "pooling mixer": nn.Sequential(Function(lambda x: x + F.avg_pool2d(x, 3, 1, 1, count_include_pad=False) - x),
    nn.GroupNorm(1, 16),
                                   nn.Conv2d(16, 32, 1), nn.GELU(), nn.Conv2d(32, 16, 1)),
    "channels last": nn.Sequential(nn.Conv2d(16, 16, 7, 1, 3, groups=16), Function(lambda x: x.permute(0, 2, 3, 1)),
    nn.LayerNorm(16),
                                   nn.Linear(16, 32), nn.GELU(), nn.Linear(32, 16), Function(lambda x: x.permute(0, 3,
                                   1, 2) * 0.4)),
    "gated": nn.Sequential(Branches(lambda o: o[0] * o[1], nn.Identity(), nn.Sequential(
        nn.AdaptiveAvgPool2d(1), nn.Conv2d(16, 4, 1), nn.SiLU(), nn.Conv2d(4, 16, 1), nn.Sigmoid())),
        nn.Dropout2d(0.2)),
    "blurred": nn.Sequential(nn.ReflectionPad2d((1, 2, 1, 2)), nn.Conv2d(16, 16, 4, 2, groups=16), nn.ZeroPad2d((0, 1,
    0, 1)),
                             nn.MaxPool2d(3, 2, ceil_mode=True), nn.LocalResponseNorm(3)),
    "space to depth": nn.Sequential(nn.PixelUnshuffle(2), nn.Conv2d(64, 16, 1), nn.PReLU(16), nn.PixelShuffle(2),
    nn.Hardtanh()),
}  # fmt: skip

MODELS = {
    each.__name__: each
    for each in (
        Attention,
        AttentionAlongFirst,
        Encoder,
        TokenMixer,
        ShiftedWindows,
        OutlookAttention,
        BiasedAttention,
        PositionsAndClassToken,
        StandardisedWeights,
        WithoutGradient,
    )
}
MODELS |= {name: (lambda block=block: Convolutional(block)) for name, block in BLOCKS.items()}


@pytest.mark.slow
@pytest.mark.parametrize("name", MODELS)
def test_architecture(name, tmp_path):
    torch.manual_seed(3)
    model = MODELS[name]().eval()
    model(torch.zeros(2, 3, 32, 32))
    liven(model)
    # What finds its batch by a division is pinned by the framework's own capture.
    for dynamic in (False,) if name == "ShiftedWindows" else (True, False):
        path = capture(model, tmp_path / "model.pt2", dynamic=dynamic)
        assert differences(path, tmp_path, model).max() < 3e-6
