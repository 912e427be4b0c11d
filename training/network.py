"""The demo's network: small, but with the parts of a present-day mobile classifier."""

import torch
from torch import nn


class ConvNorm(nn.Sequential):
    def __init__(self, inputs, outputs, size=3, stride=1, groups=1, activation=nn.Hardswish):
        convolution = nn.Conv2d(inputs, outputs, size, stride, size // 2, groups=groups, bias=False)
        super().__init__(convolution, nn.BatchNorm2d(outputs), activation())


class Gate(nn.Module):
    """Squeeze and excite: each channel is scaled by what the whole picture says of it."""

    def __init__(self, channels, squeezed):
        super().__init__()
        self.pool = nn.AdaptiveAvgPool2d(1)
        self.squeeze = nn.Conv2d(channels, squeezed, 1)
        self.excite = nn.Conv2d(squeezed, channels, 1)

    def forward(self, features):
        gate = nn.functional.relu(self.squeeze(self.pool(features)))
        return features * nn.functional.hardsigmoid(self.excite(gate))


class InvertedResidual(nn.Module):
    def __init__(self, inputs, outputs, stride, widening=3):
        super().__init__()
        wide = inputs * widening
        self.expand = ConvNorm(inputs, wide, 1)
        self.depthwise = ConvNorm(wide, wide, 5, stride, groups=wide)
        self.gate = Gate(wide, wide // 4)
        self.project = ConvNorm(wide, outputs, 1, activation=nn.Identity)
        self.residual = stride == 1 and inputs == outputs

    def forward(self, features):
        result = self.project(self.gate(self.depthwise(self.expand(features))))
        return features + result if self.residual else result


class Residual(nn.Module):
    def __init__(self, channels):
        super().__init__()
        self.first = ConvNorm(channels, channels, activation=nn.ReLU)
        self.second = ConvNorm(channels, channels, activation=nn.Identity)

    def forward(self, features):
        return nn.functional.relu(features + self.second(self.first(features)))


class ChannelMarks(nn.Module):
    """RGB pictures [N, 3, 64, 64] to logits [N, 10]."""

    def __init__(self, classes=10):
        super().__init__()
        self.stem = ConvNorm(3, 16, 3, 2)
        self.residual = Residual(16)
        self.features = nn.Sequential(
            InvertedResidual(16, 24, 2),
            InvertedResidual(24, 24, 1),
            InvertedResidual(24, 40, 2),
            InvertedResidual(40, 40, 1),
        )
        self.head = ConvNorm(40, 160, 1)
        self.pool = nn.AdaptiveAvgPool2d(1)
        self.dropout = nn.Dropout(0.2)
        self.classifier = nn.Linear(160, classes)

    def forward(self, image):
        features = self.head(self.features(self.residual(self.stem(image))))
        return self.classifier(self.dropout(torch.flatten(self.pool(features), 1)))


def make_model():
    return ChannelMarks()
