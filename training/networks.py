"""Networks of other kinds for the demo's pictures: what low precision does depends on the kind of the layers.

All take RGB pictures [N, 3, 64, 64], or any other size if they end in a mean, and give logits [N, 10].
"""

import torch
from network import ConvNorm, Residual, make_model
from torch import nn


class Widening(nn.Module):
    """Two convolutions beside a shortcut that has a convolution of its own, because size and channels change."""

    def __init__(self, inputs, outputs):
        super().__init__()
        self.first = ConvNorm(inputs, outputs, 3, 2, activation=nn.ReLU)
        self.second = ConvNorm(outputs, outputs, activation=nn.Identity)
        self.shortcut = ConvNorm(inputs, outputs, 1, 2, activation=nn.Identity)

    def forward(self, features):
        return nn.functional.relu(self.shortcut(features) + self.second(self.first(features)))


class PlainResidual(nn.Module):
    def __init__(self, classes=10):
        super().__init__()
        self.stem = ConvNorm(3, 24, 3, 2, activation=nn.ReLU)
        self.pool = nn.MaxPool2d(3, 2, 1)
        self.features = nn.Sequential(
            Residual(24), Residual(24), Widening(24, 48), Residual(48), Widening(48, 96), Residual(96)
        )
        self.classifier = nn.Linear(96, classes)

    def forward(self, image):
        return self.classifier(self.features(self.pool(self.stem(image))).mean((2, 3)))


class GatedBlock(nn.Module):
    """An inverted residual with a sigmoid gate and SiLU throughout."""

    def __init__(self, inputs, outputs, stride, size):
        super().__init__()
        wide = inputs * 4
        self.expand = ConvNorm(inputs, wide, 1, activation=nn.SiLU)
        self.depthwise = ConvNorm(wide, wide, size, stride, wide, nn.SiLU)
        self.squeeze, self.excite = nn.Conv2d(wide, inputs // 4, 1), nn.Conv2d(inputs // 4, wide, 1)
        self.project = ConvNorm(wide, outputs, 1, activation=nn.Identity)
        self.residual = stride == 1 and inputs == outputs

    def forward(self, features):
        wide = self.depthwise(self.expand(features))
        gate = torch.sigmoid(self.excite(nn.functional.silu(self.squeeze(wide.mean((2, 3), keepdim=True)))))
        result = self.project(wide * gate)
        return features + result if self.residual else result


class Gated(nn.Module):
    def __init__(self, classes=10):
        super().__init__()
        self.stem = ConvNorm(3, 16, 3, 2, activation=nn.SiLU)
        shapes = ((16, 24, 2, 3), (24, 24, 1, 3), (24, 40, 2, 5), (40, 40, 1, 5), (40, 64, 2, 3), (64, 64, 1, 3))
        self.blocks = nn.Sequential(*(GatedBlock(*shape) for shape in shapes))
        self.head = ConvNorm(64, 192, 1, activation=nn.SiLU)
        self.classifier = nn.Linear(192, classes)

    def forward(self, image):
        return self.classifier(self.head(self.blocks(self.stem(image))).mean((2, 3)))


class TransformerBlock(nn.Module):
    def __init__(self, width, heads):
        super().__init__()
        self.norm1, self.norm2 = nn.LayerNorm(width), nn.LayerNorm(width)
        self.heads, self.joint, self.project = heads, nn.Linear(width, width * 3), nn.Linear(width, width)
        self.wide, self.narrow = nn.Linear(width, width * 4), nn.Linear(width * 4, width)

    def forward(self, tokens):
        batch, count, width = tokens.shape
        joint = self.joint(self.norm1(tokens)).reshape(batch, count, 3, self.heads, width // self.heads)
        query, key, value = joint.permute(2, 0, 3, 1, 4)
        attended = nn.functional.scaled_dot_product_attention(query, key, value)
        tokens = tokens + self.project(attended.transpose(1, 2).reshape(batch, count, width))
        return tokens + self.narrow(nn.functional.gelu(self.wide(self.norm2(tokens))))


class Transformer(nn.Module):
    """A small vision transformer; three strided convolutions cut the picture into 64 patches."""

    def __init__(self, classes=10, width=96, depth=4):
        super().__init__()
        self.patches = nn.Sequential(
            ConvNorm(3, 24, 3, 2, activation=nn.GELU),
            ConvNorm(24, 48, 3, 2, activation=nn.GELU),
            nn.Conv2d(48, width, 3, 2, 1),
        )
        self.positions = nn.Parameter(torch.randn(1, 64, width) * 0.02)
        self.blocks = nn.Sequential(*(TransformerBlock(width, 4) for _ in range(depth)))
        self.norm, self.classifier = nn.LayerNorm(width), nn.Linear(width, classes)

    def forward(self, image):
        tokens = self.patches(image).flatten(2).transpose(1, 2) + self.positions
        return self.classifier(self.norm(self.blocks(tokens).mean(1)))


class ChannelNorm(nn.LayerNorm):
    """Layer normalisation over the channels of pictures."""

    def forward(self, features):
        return super().forward(features.permute(0, 2, 3, 1)).permute(0, 3, 1, 2)


class LargeKernelBlock(nn.Module):
    """A depthwise convolution of 7 x 7, then each place by itself, then a factor per channel."""

    def __init__(self, width):
        super().__init__()
        self.depthwise, self.norm = nn.Conv2d(width, width, 7, 1, 3, groups=width), nn.LayerNorm(width)
        self.wide, self.narrow = nn.Linear(width, width * 4), nn.Linear(width * 4, width)
        self.factor = nn.Parameter(torch.full((width,), 0.1))

    def forward(self, features):
        inside = self.norm(self.depthwise(features).permute(0, 2, 3, 1))
        inside = self.narrow(nn.functional.gelu(self.wide(inside))) * self.factor
        return features + inside.permute(0, 3, 1, 2)


class LargeKernels(nn.Module):
    def __init__(self, classes=10):
        super().__init__()
        self.stem, self.stem_norm = nn.Conv2d(3, 32, 4, 4), ChannelNorm(32)
        self.first = nn.Sequential(LargeKernelBlock(32), LargeKernelBlock(32))
        self.reduce = nn.Sequential(ChannelNorm(32), nn.Conv2d(32, 64, 2, 2))
        self.second = nn.Sequential(*(LargeKernelBlock(64) for _ in range(4)))
        self.norm, self.classifier = nn.LayerNorm(64), nn.Linear(64, classes)

    def forward(self, image):
        features = self.second(self.reduce(self.first(self.stem_norm(self.stem(image)))))
        return self.classifier(self.norm(features.mean((2, 3))))


class Bottleneck(nn.Module):
    def __init__(self, inputs, width, stride):
        super().__init__()
        self.first, self.second = (
            ConvNorm(inputs, width, 1, activation=nn.ReLU),
            ConvNorm(width, width, 3, stride, activation=nn.ReLU),
        )
        self.third = ConvNorm(width, width * 4, 1, activation=nn.Identity)
        changes = stride != 1 or inputs != width * 4
        self.shortcut = ConvNorm(inputs, width * 4, 1, stride, activation=nn.Identity) if changes else nn.Identity()

    def forward(self, features):
        return nn.functional.relu(self.shortcut(features) + self.third(self.second(self.first(features))))


class ResNet50(nn.Module):
    """He et al., "Deep residual learning for image recognition", 2015: the network of 50 layers."""

    def __init__(self, classes=10):
        super().__init__()
        self.stem, self.pool = ConvNorm(3, 64, 7, 2, activation=nn.ReLU), nn.MaxPool2d(3, 2, 1)
        blocks, inputs = [], 64
        for width, count, stride in ((64, 3, 1), (128, 4, 2), (256, 6, 2), (512, 3, 2)):
            for place in range(count):
                blocks.append(Bottleneck(inputs, width, stride if place == 0 else 1))
                inputs = width * 4
        self.blocks, self.classifier = nn.Sequential(*blocks), nn.Linear(inputs, classes)

    def forward(self, image):
        return self.classifier(self.blocks(self.pool(self.stem(image))).mean((2, 3)))


class Inverted(nn.Module):
    def __init__(self, inputs, outputs, stride, widening):
        super().__init__()
        wide = inputs * widening
        self.expand = ConvNorm(inputs, wide, 1, activation=nn.ReLU6) if widening != 1 else nn.Identity()
        self.depthwise = ConvNorm(wide, wide, 3, stride, wide, nn.ReLU6)
        self.project, self.residual = (
            ConvNorm(wide, outputs, 1, activation=nn.Identity),
            stride == 1 and inputs == outputs,
        )

    def forward(self, features):
        result = self.project(self.depthwise(self.expand(features)))
        return features + result if self.residual else result


class MobileNetV2(nn.Module):
    """Sandler et al., "MobileNetV2: inverted residuals and linear bottlenecks", 2018."""

    def __init__(self, classes=10):
        super().__init__()
        self.stem = ConvNorm(3, 32, 3, 2, activation=nn.ReLU6)
        blocks, inputs = [], 32
        for widening, outputs, count, stride in (
            (1, 16, 1, 1),
            (6, 24, 2, 2),
            (6, 32, 3, 2),
            (6, 64, 4, 2),
            (6, 96, 3, 1),
            (6, 160, 3, 2),
            (6, 320, 1, 1),
        ):
            for place in range(count):
                blocks.append(Inverted(inputs, outputs, stride if place == 0 else 1, widening))
                inputs = outputs
        self.blocks, self.head = nn.Sequential(*blocks), ConvNorm(320, 1280, 1, activation=nn.ReLU6)
        self.classifier = nn.Linear(1280, classes)

    def forward(self, image):
        return self.classifier(self.head(self.blocks(self.stem(image))).mean((2, 3)))


NETWORKS = {
    "channel_marks": make_model,
    "residual": PlainResidual,
    "gated": Gated,
    "transformer": Transformer,
    "large_kernels": LargeKernels,
    "mobilenet_v2": MobileNetV2,
    "resnet50": ResNet50,
}
LARGE = {"mobilenet_v2": 224, "resnet50": 224}
"""Those that are captured for larger pictures than they are trained on."""
