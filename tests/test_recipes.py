"""Every recipe is what its library does, on photographs of several sizes, and the page of recipes shows them all."""

import os
from pathlib import Path

import cv2
import numpy as np
import pytest
import torch
from PIL import Image, ImageOps

from zygal.inlet import apply_inlet, format_inlet, parse_inlet
from zygal.inlet.recipes import all_recipes, recipe_named

PAGE = Path(__file__).parents[1] / "docs" / "recipes.md"
MEAN, STD = np.float32([0.485, 0.456, 0.406]), np.float32([0.229, 0.224, 0.225])
BILINEAR = Image.Resampling.BILINEAR


def rgb(path):
    return Image.open(path).convert("RGB")


def squashed(path, size=(224, 224), method=BILINEAR):
    return np.asarray(rgb(path).resize(size[::-1], method), np.float32)


def planes(pixels):
    return np.asarray(pixels, np.float32).transpose(2, 0, 1)


def normal(pixels):
    return planes((np.asarray(pixels, np.float32) / 255 - MEAN) / STD)


def middle(pixels, side=224, rounding=round):
    top, left = (int(rounding((each - side) / 2)) for each in pixels.shape[:2])
    return pixels[top : top + side, left : left + side]


def by_short_side(path):
    image = rgb(path)
    short = min(image.size)
    return image.resize(tuple(int(256 * side / short) for side in image.size), BILINEAR)


def tensor_short_side(path, as_float):
    pixels = torch.from_numpy(np.array(rgb(path))).permute(2, 0, 1)[None]
    pixels = pixels.float() if as_float else pixels
    size = [int(256 * side / min(pixels.shape[2:])) for side in pixels.shape[2:]]
    made = torch.nn.functional.interpolate(pixels, size=size, mode="bilinear", antialias=True)[0]
    return normal(middle(made.permute(1, 2, 0).numpy()))


def opencv_short_side(path):
    image = cv2.imread(str(path))[:, :, ::-1]
    factor = 256 / min(image.shape[:2])
    return normal(middle(cv2.resize(np.ascontiguousarray(image), None, fx=factor, fy=factor), rounding=int))


def letterboxed(path, resize=lambda image, size: np.asarray(image.resize(size, BILINEAR))):
    image = rgb(path)
    scale = min(224 / image.width, 224 / image.height)
    small = resize(image, (round(image.width * scale), round(image.height * scale)))
    canvas = np.full((224, 224, 3), 114, np.uint8)
    top, left = (224 - small.shape[0]) // 2, (224 - small.shape[1]) // 2
    canvas[top : top + small.shape[0], left : left + small.shape[1]] = small
    return planes(canvas) / 255


def square(path):
    image = rgb(path)
    side = min(image.size)
    left, top = (image.width - side) // 2, (image.height - side) // 2
    return planes(image.crop((left, top, left + side, top + side)).resize((224, 224), BILINEAR)) / 255


def thumbnail(path):
    image = Image.open(path)
    image.thumbnail((224, 224))
    ground = Image.new("RGB", (224, 224))
    ground.paste(image.convert("RGB"), ((224 - image.width) // 2, (224 - image.height) // 2))
    return planes(ground) / 255


def standardised(path):
    pixels = squashed(path, (64, 64)) / 255
    return planes((pixels - pixels.mean()) / pixels.std())


def float_squashed(path):
    pixels = torch.from_numpy(np.array(rgb(path))).permute(2, 0, 1)[None].float()
    return torch.nn.functional.interpolate(pixels, size=(224, 224), mode="bilinear")[0].permute(1, 2, 0).numpy() / 255


def padded_as_tensorflow_does(path):
    """By its documented steps: the ratio, the sizes rounded down, the margins from what they were before."""
    image = rgb(path)
    ratio = max(image.width / 224, image.height / 224)
    width, height = image.width / ratio, image.height / ratio
    pixels = torch.from_numpy(np.array(image)).permute(2, 0, 1)[None].float()
    small = (
        torch.nn.functional.interpolate(pixels, size=(int(height), int(width)), mode="bilinear")[0]
        .permute(1, 2, 0)
        .numpy()
    )
    canvas = np.zeros((224, 224, 3), np.float32)
    top, left = int((224 - height) / 2), int((224 - width) / 2)
    canvas[top : top + small.shape[0], left : left + small.shape[1]] = small
    return canvas / 255


def scikit_like(path):
    """Its documented steps: a Gaussian of (shrinkage - 1) / 2 pixels, mirrored at the border, then linear
    interpolation."""
    pixels = np.asarray(rgb(path), np.float64)
    sigma = [(side / 224 - 1) / 2 for side in pixels.shape[:2]]
    for axis, each in enumerate(sigma):
        if each > 0:
            reach = int(4 * each + 0.5)
            weights = np.exp(-0.5 * (np.arange(-reach, reach + 1) / each) ** 2)
            around = np.pad(pixels, [(reach, reach) if axis == number else (0, 0) for number in range(3)], "reflect")
            pixels = np.apply_along_axis(
                lambda line, w=weights / weights.sum(): np.convolve(line, w, "valid"), axis, around
            )
    made = torch.nn.functional.interpolate(
        torch.from_numpy(pixels).permute(2, 0, 1)[None], size=(224, 224), mode="bilinear"
    )
    return made[0].permute(1, 2, 0).numpy() / 255


JUDGES = {
    "grey-inverted": lambda path: (
        1 - np.asarray(Image.open(path).convert("L").resize((28, 28), BILINEAR), np.float32)[None] / 255
    ),
    "grey-opencv": lambda path: (
        cv2.resize(cv2.imread(str(path), cv2.IMREAD_GRAYSCALE), (128, 128))[None].astype(np.float32) / 255
    ),
    "letterbox": letterboxed,
    "letterbox-opencv": lambda path: letterboxed(path, lambda image, size: cv2.resize(np.asarray(image), size)),
    "letterbox-tensorflow": padded_as_tensorflow_does,
    "short-side-crop": lambda path: normal(middle(np.asarray(by_short_side(path)))),
    "short-side-crop-float": lambda path: tensor_short_side(path, True),
    "short-side-crop-opencv": opencv_short_side,
    "short-side-crop-tensor": lambda path: tensor_short_side(path, False),
    "square-crop": square,
    "square-fit": lambda path: normal(ImageOps.fit(rgb(path), (224, 224))),
    "squash": lambda path: squashed(path) / 127.5 - 1,
    "squash-bgr": lambda path: squashed(path)[:, :, ::-1] - np.float32([103.939, 116.779, 123.68]),
    "squash-levels": squashed,
    "squash-nearest": lambda path: squashed(path, method=Image.Resampling.NEAREST) / 255,
    "squash-opencv": lambda path: planes(cv2.resize(cv2.imread(str(path)), (224, 224))) / 255,
    "squash-scikit": scikit_like,
    "squash-tensorflow": float_squashed,
    "standardised": standardised,
    "thumbnail": thumbnail,
}


def test_every_recipe_has_a_judge():
    assert {each.name for each in all_recipes()} == set(JUDGES)


@pytest.mark.alike
@pytest.mark.parametrize("name", JUDGES)
def test_a_recipe_is_what_its_library_does(name, tmp_path):
    inlet = recipe_named(name).inlet
    random = np.random.default_rng(0)
    for number, (width, height) in enumerate(((320, 260), (301, 402), (460, 700))):
        smooth = cv2.resize(
            random.integers(0, 256, (9, 7, 3), np.uint8), (width, height), interpolation=cv2.INTER_CUBIC
        )
        noisy = np.clip(smooth + random.normal(0, 12, smooth.shape), 0, 255).astype(np.uint8)
        # JPEG files where the recipe speaks of them; the fast transform has a judge of its own.
        path = tmp_path / f"{number}.{'jpg' if name in ('thumbnail', 'grey-opencv') else 'png'}"
        Image.fromarray(noisy).save(path)
        made, wanted = apply_inlet(path, inlet), JUDGES[name](path)
        assert made.tensor.shape == wanted.shape
        # In grey levels: all but float32's last digits.
        level = made.grey_level.max()
        assert np.abs(made.tensor - wanted).max() / abs(level) < 0.02, name


def test_the_page_shows_every_recipe():
    parts = [
        "# Inlets of common recipes",
        "",
        "`zygal inlet recipes` lists them, `zygal inlet recipes NAME -o FILE` writes one. Adapt its sizes and values, "
        "and confirm it with `zygal match`; `zygal inlet recover` finds it without a hint.",
        "",
    ]
    for each in all_recipes():
        assert parse_inlet(format_inlet(each.inlet), each.name) == each.inlet
        body = each.text.split("\n", 2)[2]
        parts += [f"## {each.name}", "", f"{each.does}. `{each.calls}`:", "", "```toml", body.strip(), "```", ""]
    page = "\n".join(parts).rstrip() + "\n"
    if os.environ.get("ZYGAL_ACCEPT"):
        PAGE.write_text(page)
    assert PAGE.read_text() == page
