"""Every recipe in the documents is what its library does, on photographs of several sizes."""

import re
from pathlib import Path

import cv2
import numpy as np
import pytest
from PIL import Image

from zygal.inlet import apply_inlet, parse_inlet

TEXT = (Path(__file__).parents[1] / "docs" / "recipes.md").read_text()
SECTIONS = dict(re.findall(r"^## (.+?)\n.*?```toml\n(.*?)```", TEXT, re.M | re.S))


def squashed(path, size):
    return np.asarray(Image.open(path).convert("RGB").resize(size[::-1], Image.Resampling.BILINEAR), np.float32)


def torchvision_like(path):
    image = Image.open(path).convert("RGB")
    width, height = image.size
    short = min(width, height)
    image = image.resize((int(256 * width / short), int(256 * height / short)), Image.Resampling.BILINEAR)
    top, left = (int(round((side - 224) / 2)) for side in (image.height, image.width))
    pixels = np.asarray(image.crop((left, top, left + 224, top + 224)), np.float32) / 255
    mean, std = np.float32([0.485, 0.456, 0.406]), np.float32([0.229, 0.224, 0.225])
    return ((pixels - mean) / std).transpose(2, 0, 1)


def standardised(path):
    pixels = squashed(path, (64, 64)) / 255
    return ((pixels - pixels.mean()) / pixels.std()).transpose(2, 0, 1)


def letterboxed(path):
    image = Image.open(path).convert("RGB")
    scale = min(224 / image.width, 224 / image.height)
    small = image.resize((round(image.width * scale), round(image.height * scale)), Image.Resampling.BILINEAR)
    canvas = Image.new("RGB", (224, 224), (114, 114, 114))
    canvas.paste(small, ((224 - small.width) // 2, (224 - small.height) // 2))
    return (np.asarray(canvas, np.float32) / 255).transpose(2, 0, 1)


JUDGES = {
    "Resize the short side": torchvision_like,
    "Squash to a size, values -1..1": lambda path: squashed(path, (224, 224)) / 127.5 - 1,
    "Squash to a size, values 0..255": lambda path: squashed(path, (224, 224)),
    "BGR with subtracted means": lambda path: squashed(path, (224, 224))[:, :, ::-1] - np.float32([103.939, 116.779, 123.68]),
    "OpenCV": lambda path: (cv2.resize(cv2.imread(str(path)), (224, 224)).astype(np.float32) / 255).transpose(2, 0, 1),
    "Grey images": lambda path: 1 - np.asarray(Image.open(path).convert("L").resize((28, 28), Image.Resampling.BILINEAR), np.float32)[None] / 255,
    "Keep the proportions and pad": letterboxed,
    "Each image standardised": standardised,
}


def test_every_recipe_has_a_judge():
    assert len(SECTIONS) == len(JUDGES) and all(any(title.startswith(each) for title in SECTIONS) for each in JUDGES)


@pytest.mark.parametrize("name", JUDGES)
def test_a_recipe_is_what_its_library_does(name, tmp_path):
    inlet = parse_inlet(next(text for title, text in SECTIONS.items() if title.startswith(name)), "recipe")
    random = np.random.default_rng(0)
    for number, (width, height) in enumerate(((320, 240), (301, 402), (260, 500))):
        smooth = cv2.resize(random.integers(0, 256, (9, 7, 3), np.uint8), (width, height), interpolation=cv2.INTER_CUBIC)
        noisy = np.clip(smooth + random.normal(0, 12, smooth.shape), 0, 255).astype(np.uint8)
        path = tmp_path / f"{number}.png"
        Image.fromarray(noisy).save(path)
        made, wanted = apply_inlet(path, inlet), JUDGES[name](path)
        assert made.tensor.shape == wanted.shape
        # In grey levels: all but float32's last digits.
        level = made.grey_level.max()
        assert np.abs(made.tensor - wanted).max() / abs(level) < 0.02, name
