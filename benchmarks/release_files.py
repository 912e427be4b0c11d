"""Writes small models as a release of PyTorch saves them, with the scores that it gives.

Run in an environment of that release, which needs nothing of Zygal: `python release_files.py FOLDER`. For each model:
a captured program with a dynamic and with a fixed batch, a scripted, a traced and a frozen archive, its weights in both
forms, and the scores on given images.
"""

import sys
import warnings
from pathlib import Path

import numpy as np
import torch
from torch import nn


class Convolutions(nn.Module):
    """What most classifiers consist of: convolutions, normalisation, a residual, pooling and a linear layer."""

    def __init__(self):
        super().__init__()
        self.stem = nn.Sequential(nn.Conv2d(3, 8, 3, 2, 1, bias=False), nn.BatchNorm2d(8), nn.ReLU(inplace=True))
        self.pool = nn.MaxPool2d(3, 2, 1)
        self.depthwise = nn.Sequential(nn.Conv2d(8, 8, 3, 1, 1, groups=8), nn.BatchNorm2d(8), nn.Hardswish())
        self.drop = nn.Dropout(0.2)
        self.head = nn.Linear(8, 5)

    def forward(self, x):
        x = self.pool(self.stem(x))
        x = x + self.depthwise(x)
        x = nn.functional.adaptive_avg_pool2d(x, (1, 1))
        return self.head(self.drop(torch.flatten(x, 1)))


class Tokens(nn.Module):
    """A transformer: patches, a class token, positions, attention, a gated layer."""

    def __init__(self):
        super().__init__()
        self.patches = nn.Conv2d(3, 8, 8, 8)
        self.token = nn.Parameter(torch.randn(1, 1, 8))
        self.positions = nn.Parameter(torch.randn(1, 17, 8) / 4)
        self.norm, self.qkv, self.out = nn.LayerNorm(8), nn.Linear(8, 24), nn.Linear(8, 8)
        self.mlp = nn.Sequential(nn.LayerNorm(8), nn.Linear(8, 16), nn.GELU(), nn.Linear(16, 8))
        self.head = nn.Linear(8, 5)

    def forward(self, x):
        x = self.patches(x).flatten(2).transpose(1, 2)
        x = torch.cat([self.token.expand(x.shape[0], -1, -1), x], dim=1) + self.positions
        batch, count, width = x.shape
        q, k, v = self.qkv(self.norm(x)).reshape(batch, count, 3, 2, width // 2).permute(2, 0, 3, 1, 4).unbind(0)
        attended = nn.functional.scaled_dot_product_attention(q, k, v).transpose(1, 2).reshape(batch, count, width)
        x = x + self.out(attended)
        x = x + self.mlp(x)
        return self.head(x[:, 0])


MODELS = {"convolutions": Convolutions, "tokens": Tokens}


def settled(module: nn.Module, images: torch.Tensor) -> nn.Module:
    """The module in evaluation mode, its running statistics those of the images."""
    module.train()
    with torch.no_grad():
        for _ in range(3):
            module(images)
    return module.eval()


def captured(module: nn.Module, images: torch.Tensor, dynamic: bool):
    """A captured program, as each release captures it."""
    if not dynamic:
        return torch.export.export(module, (images[:1],))
    if hasattr(torch.export, "Dim"):
        for least in ({"min": 1}, {}):  # Early releases generalise from no batch of 1.
            try:
                axes = ({0: torch.export.Dim("batch", **least)},)
                return torch.export.export(module, (images[:2],), dynamic_shapes=axes)
            except Exception:
                if not least:
                    raise
    return torch.export.export(module, (images[:2],), constraints=[torch.export.dynamic_dim(images[:2], 0)])


def main(folder: str) -> int:
    folder = Path(folder)
    folder.mkdir(parents=True, exist_ok=True)
    warnings.simplefilter("ignore")
    torch.manual_seed(1)
    pixels = np.random.default_rng(1).integers(0, 256, (3, 3, 32, 32), np.uint8)
    images = torch.from_numpy(pixels.astype(np.float32) / 255)
    print(torch.__version__)
    for name, make in MODELS.items():
        module = settled(make(), images)
        with torch.no_grad():
            scores = module(images).numpy()
        np.savez_compressed(folder / f"{name}.npz", pixels=pixels, scores=scores)
        scripted = torch.jit.script(module)
        saved = {
            "dynamic.pt2": lambda path: torch.export.save(captured(module, images, True), path),
            "fixed.pt2": lambda path: torch.export.save(captured(module, images, False), path),
            "scripted.pt": lambda path: torch.jit.save(scripted, path),
            "traced.pt": lambda path: torch.jit.save(torch.jit.trace(module, images[:1]), path),
            "frozen.pt": lambda path: torch.jit.save(torch.jit.freeze(scripted), path),
            "mobile.ptl": lambda path: scripted._save_for_lite_interpreter(path),
            "weights.pth": lambda path: torch.save(module.state_dict(), path),
            "oldest.pth": lambda path: torch.save(module.state_dict(), path, _use_new_zipfile_serialization=False),
        }
        for ending, save in saved.items():
            path = folder / f"{name}.{ending}"
            try:
                with torch.no_grad():
                    save(str(path))
                print(f"{path.name}: {path.stat().st_size} bytes")
            except Exception as fault:
                path.unlink(missing_ok=True)
                print(f"{path.name}: {type(fault).__name__}: {str(fault).splitlines()[0][:200]}")
    return 0


if __name__ == "__main__":
    sys.exit(main(*sys.argv[1:]))
