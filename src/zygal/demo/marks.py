"""Draws channel marks: the made-up survey photographs that the demo classifies.

The ten classes are the marks of the international maritime buoyage system, region A (a public
standard): colours, bands and top marks follow it. Everything else in a picture (light, haze,
distance, tilt, shore, noise) is drawn from a seed, so a set of pictures is a function of its seed.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from PIL import Image, ImageDraw, ImageFilter

LABELS = (
    "port-hand",
    "starboard-hand",
    "north-cardinal",
    "east-cardinal",
    "south-cardinal",
    "west-cardinal",
    "isolated-danger",
    "safe-water",
    "special",
    "emergency-wreck",
)

RED, GREEN, YELLOW = (190, 32, 38), (18, 128, 72), (232, 190, 24)
BLACK, WHITE, BLUE = (26, 26, 30), (232, 232, 228), (30, 74, 170)


@dataclass(frozen=True)
class Mark:
    """How one class is painted: colours from top to bottom (or left to right), and its top mark."""

    colours: tuple[tuple[int, int, int], ...]
    upright: bool
    top_shapes: tuple[str, ...]
    top_colour: tuple[int, int, int]


MARKS = {
    "port-hand": Mark((RED,), False, ("can",), RED),
    "starboard-hand": Mark((GREEN,), False, ("up",), GREEN),
    "north-cardinal": Mark((BLACK, YELLOW), False, ("up", "up"), BLACK),
    "east-cardinal": Mark((BLACK, YELLOW, BLACK), False, ("up", "down"), BLACK),
    "south-cardinal": Mark((YELLOW, BLACK), False, ("down", "down"), BLACK),
    "west-cardinal": Mark((YELLOW, BLACK, YELLOW), False, ("down", "up"), BLACK),
    "isolated-danger": Mark((BLACK, RED, BLACK), False, ("ball", "ball"), BLACK),
    "safe-water": Mark((RED, WHITE, RED, WHITE), True, ("ball",), RED),
    "special": Mark((YELLOW,), False, ("saltire",), YELLOW),
    "emergency-wreck": Mark((BLUE, YELLOW, BLUE, YELLOW), True, ("cross",), YELLOW),
}


def draw_mark(seed: int, index: int, size: tuple[int, int] | None = None) -> tuple[Image.Image, int]:
    """Draws picture `index` of the series `seed`.

    Returns the RGB picture and its class number (`index` modulo 10). `size` is (width, height) in
    pixels; without it the size is drawn as well, 96 to 200 pixels a side.
    """
    rng = np.random.default_rng([seed, index])
    label = index % len(LABELS)
    if size is None:
        size = (int(rng.integers(110, 201)), int(rng.integers(96, 161)))
    picture, horizon = _scene(rng, size)
    height = min(size) * float(np.clip(rng.normal(0.45, 0.17), 0.17, 0.82))
    layer = _buoy(rng, MARKS[LABELS[label]], height)
    layer = layer.rotate(float(rng.normal(0, 9)), Image.Resampling.BICUBIC, expand=True)
    waterline = max(horizon + 3, min(size[1] * 0.5 + height * 0.52, size[1] - 2))
    left = size[0] / 2 + float(rng.normal(0, 0.05)) * min(size) - layer.width / 2
    picture.paste(layer, (round(left), round(waterline - layer.height * 0.93)), layer)
    _foreground_waves(rng, picture, round(waterline))
    return _camera(rng, picture), label


def _scene(rng: np.random.Generator, size: tuple[int, int]) -> tuple[Image.Image, int]:
    """Sky, clouds, shore and sea; returns the picture and the row of the horizon."""
    width, height = size
    horizon = int(height * rng.uniform(0.32, 0.62))
    warm = rng.uniform(-1, 1)
    zenith = np.array([110 + 60 * warm, 150 + 10 * warm, 200 - 40 * warm]) * rng.uniform(0.55, 1.1)
    haze = np.array([205, 208, 210]) * rng.uniform(0.7, 1.08)
    sea = np.array([40, 78 + 20 * rng.uniform(-1, 1), 96 + 25 * warm]) * rng.uniform(0.5, 1.3)
    rows = np.linspace(0, 1, height)[:, None, None]
    edge = horizon / height
    sky_part = zenith + (haze - zenith) * np.clip(rows / edge, 0, 1) ** 1.6
    sea_part = haze * 0.7 + (sea - haze * 0.7) * np.clip((rows - edge) / (1 - edge), 0, 1) ** 0.5
    scene = np.where(rows < edge, sky_part, sea_part) + np.zeros((1, width, 1))
    clouds = _smooth_noise(rng, size, 6)[:, :, None] * rng.uniform(0, 34)
    ripples = _smooth_noise(rng, (max(width // 3, 4), height * 2), 40, size)[:, :, None]
    scene += np.where(rows < edge, clouds, ripples * rng.uniform(4, 20) * (0.3 + rows))
    picture = Image.fromarray(np.clip(scene, 0, 255).astype(np.uint8))
    if rng.random() < 0.6:
        _shore(rng, picture, horizon, haze)
    return picture, horizon


def _shore(rng: np.random.Generator, picture: Image.Image, horizon: int, haze: np.ndarray) -> None:
    """A hazy line of land, and sometimes roofs of a town in the colours of the marks."""
    land = np.array([70, 84, 62]) * rng.uniform(0.6, 1.2)
    colour = tuple(int(v) for v in np.clip(land + (haze - land) * rng.uniform(0.25, 0.8), 0, 255))
    steps = np.linspace(0, picture.width, 14)
    tops = horizon - np.abs(np.cumsum(rng.normal(0, 2.2, steps.size))) - 1
    draw = ImageDraw.Draw(picture)
    outline = [(float(x), float(y)) for x, y in zip(steps, tops)]
    draw.polygon([(0, horizon), *outline, (picture.width, horizon)], fill=colour)
    for _ in range(int(rng.integers(0, 7))):
        x, y = float(rng.uniform(0, picture.width)), horizon - float(rng.uniform(3, 9))
        roof = (RED, WHITE, YELLOW, BLACK, GREEN)[int(rng.integers(5))]
        draw.rectangle([x, y, x + float(rng.uniform(3, 8)), horizon], fill=roof)


def _buoy(rng: np.random.Generator, mark: Mark, height: float) -> Image.Image:
    """The mark on a transparent ground, drawn four times too large and reduced."""
    scale = 4
    tall, wide = height * scale, height * scale * float(rng.uniform(0.4, 0.56))
    layer = Image.new("RGBA", (round(wide * 1.2), round(tall)), (0, 0, 0, 0))
    draw = ImageDraw.Draw(layer)
    middle = layer.width / 2
    top_height = tall * float(rng.uniform(0.26, 0.34))
    body_top, body_bottom = top_height * 1.06, tall * 0.97
    fade, shade = float(rng.uniform(0.72, 1.12)), float(rng.uniform(-0.35, 0.35))
    stripes = Image.new("RGB", layer.size)
    _paint_stripes(ImageDraw.Draw(stripes), mark, (middle, wide, body_top, body_bottom))
    ramp = 1 + shade * np.linspace(-1, 1, layer.width)[None, :, None]
    painted = np.clip(np.asarray(stripes) * fade * ramp, 0, 255).astype(np.uint8)
    mask = Image.new("L", layer.size, 0)
    _body_outline(ImageDraw.Draw(mask), rng, (middle, wide, body_top, body_bottom))
    layer.paste(Image.fromarray(painted), (0, 0), mask)
    draw.rectangle([middle - tall * 0.009, 2, middle + tall * 0.009, body_top + 2], fill=(60, 60, 60, 255))
    top_colour = tuple(int(min(255, channel * fade)) for channel in mark.top_colour)
    slot = top_height / max(len(mark.top_shapes), 1.45)
    for position, shape in enumerate(mark.top_shapes):
        _top_shape(draw, shape, (middle, position * slot + 2), slot * 0.92, (*top_colour, 255))
    small = (max(layer.width // scale, 2), max(layer.height // scale, 4))
    return layer.resize(small, Image.Resampling.BOX)


def _paint_stripes(draw: ImageDraw.ImageDraw, mark: Mark, body: tuple[float, float, float, float]) -> None:
    middle, wide, top, bottom = body
    count = len(mark.colours)
    for position, colour in enumerate(mark.colours):
        if mark.upright:
            left = middle - wide / 2 + wide * position / count
            draw.rectangle([left, 0, left + wide / count, bottom * 1.1], fill=colour)
        else:
            upper = top + (bottom - top) * position / count
            draw.rectangle([0, upper, middle * 2, upper + (bottom - top) / count + 2], fill=colour)


def _body_outline(draw: ImageDraw.ImageDraw, rng: np.random.Generator, body: tuple[float, float, float, float]) -> None:
    """A pillar on a float, a spar, or a broad can; the shape says nothing about the class."""
    middle, wide, top, bottom = body
    float_top = bottom - (bottom - top) * 0.3
    slim = wide * float(rng.choice([0.13, 0.22, 0.36]))
    lean = slim * float(rng.uniform(0.45, 1.0))
    draw.polygon(
        [(middle - lean, top), (middle + lean, top), (middle + slim, float_top + 3), (middle - slim, float_top + 3)],
        fill=255,
    )
    broad = max(slim, wide * float(rng.uniform(0.3, 0.5)))
    draw.polygon(
        [
            (middle - broad, float_top),
            (middle + broad, float_top),
            (middle + broad * 0.8, bottom),
            (middle - broad * 0.8, bottom),
        ],
        fill=255,
    )


def _top_shape(
    draw: ImageDraw.ImageDraw, shape: str, position: tuple[float, float], size: float, colour: tuple
) -> None:
    middle, top = position
    half, bottom, thick = size / 2, top + size, size * 0.13
    if shape == "ball":
        draw.ellipse([middle - half, top, middle + half, bottom], fill=colour)
    elif shape == "can":
        draw.rectangle([middle - half * 0.75, top, middle + half * 0.75, bottom], fill=colour)
    elif shape == "up":
        draw.polygon([(middle, top), (middle + half, bottom), (middle - half, bottom)], fill=colour)
    elif shape == "down":
        draw.polygon([(middle, bottom), (middle + half, top), (middle - half, top)], fill=colour)
    elif shape == "cross":
        draw.rectangle([middle - thick, top, middle + thick, bottom], fill=colour)
        draw.rectangle([middle - half, top + half - thick, middle + half, top + half + thick], fill=colour)
    elif shape == "saltire":
        width = round(thick * 2.2)
        draw.line([(middle - half, top), (middle + half, bottom)], fill=colour, width=width)
        draw.line([(middle + half, top), (middle - half, bottom)], fill=colour, width=width)


def _foreground_waves(rng: np.random.Generator, picture: Image.Image, waterline: int) -> None:
    draw = ImageDraw.Draw(picture)
    base = picture.getpixel((2, min(waterline, picture.height - 1)))
    for _ in range(int(rng.integers(2, 7))):
        x = float(rng.normal(picture.width / 2, picture.width * 0.12))
        y, reach = waterline + float(rng.normal(0, 2)), float(rng.uniform(4, 16))
        light = tuple(int(min(255, channel * rng.uniform(0.8, 1.5))) for channel in base)
        draw.line([(x - reach, y), (x + reach, y + float(rng.normal(0, 1)))], fill=light, width=2)


def _camera(rng: np.random.Generator, picture: Image.Image) -> Image.Image:
    """What lies between the mark and the file: haze, glare, exposure, white balance, blur, noise."""
    if rng.random() < 0.35:
        picture = picture.filter(ImageFilter.GaussianBlur(float(rng.uniform(0.3, 2.4))))
    pixels = np.asarray(picture, np.float64)
    veil = float(np.clip(rng.exponential(0.2), 0, 0.86))
    pixels = pixels * (1 - veil) + np.array([204, 207, 212]) * veil
    if rng.random() < 0.25:
        pixels += _smooth_noise(rng, picture.size, 3)[:, :, None] * 60
    pixels *= rng.uniform(0.25, 1.25) * rng.normal(1, 0.06, 3)
    pixels += rng.normal(0, rng.uniform(1, 22), pixels.shape)
    return Image.fromarray(np.clip(pixels, 0, 255).astype(np.uint8))


def _smooth_noise(
    rng: np.random.Generator, grid: tuple[int, int], cells: int, size: tuple[int, int] | None = None
) -> np.ndarray:
    """Noise of about unit size that varies over `cells` cells; float64 [height, width]."""
    coarse = rng.normal(0, 1, (max(2, cells * grid[1] // max(grid)), cells)).astype(np.float32)
    smooth = Image.fromarray(coarse).resize(size or grid, Image.Resampling.BICUBIC)
    return np.asarray(smooth, np.float64)
