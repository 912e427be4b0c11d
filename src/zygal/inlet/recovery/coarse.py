"""Where the tensor lies on the image: the boxes that frames can cut, tried by correlation, whatever the colours became.

A frame of any kind shows some box of the image. Boxes come in families of one parameter at most;
each is cut out quickly and the recorded channels are regressed on its three, so that neither the
colours' order nor the values stage need be known.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

import numpy as np
from PIL import Image

from zygal.inlet.decode import Picture, turn
from zygal.inlet.frame import as_image
from zygal.inlet.recovery.fit import unexplained
from zygal.inlet.specification import MIRRORS
from zygal.pool import ThreadPool

Box = tuple[float, float, float, float]
_LARGEST_MARGIN = 2.0
_SAMPLES = 48
_TRIED_AT_FIRST = 50
_DOUBTFUL = 0.3


@dataclass(frozen=True)
class Placement:
    """A family's box and how badly it explains: family, parameter, 0 for perfect to 1 for not at all."""

    family: str
    parameter: float
    unexplained: float
    mirror: str = "none"


def _whole(size, wanted, parameter) -> Box:
    height, width = size
    return 0.0, 0.0, width, height


def _short_side(size, wanted, parameter) -> Box:
    """The short side became `parameter` pixels, then the middle was cropped."""
    scale = min(size) / parameter
    return _middle(size, wanted[0] * scale, wanted[1] * scale)


def _part(size, wanted, parameter) -> Box:
    """The middle part of both sides, squashed."""
    return _middle(size, size[0] * parameter, size[1] * parameter)


def _pixels(size, wanted, parameter) -> Box:
    """A box of a fixed number of the image's own pixels, `parameter` for each of the tensor's."""
    return _middle(size, wanted[0] * parameter, wanted[1] * parameter)


def _square(size, wanted, parameter) -> Box:
    """A square of a fixed number of the image's own pixels, squashed."""
    return _middle(size, parameter, parameter)


def _aspect_part(size, wanted, parameter) -> Box:
    """The middle part of the largest box in the tensor's proportions."""
    scale = min(size[0] / wanted[0], size[1] / wanted[1]) * parameter
    return _middle(size, wanted[0] * scale, wanted[1] * scale)


def _within(size, wanted, parameter) -> Box:
    """The whole picture and a border around it."""
    scale = max(size[0] / wanted[0], size[1] / wanted[1])
    return _middle(size, wanted[0] * scale, wanted[1] * scale)


def _within_start(size, wanted, parameter) -> Box:
    scale = max(size[0] / wanted[0], size[1] / wanted[1])
    return 0.0, 0.0, wanted[1] * scale, wanted[0] * scale


def _short_side_start(size, wanted, parameter) -> Box:
    scale = min(size) / parameter
    return 0.0, 0.0, wanted[1] * scale, wanted[0] * scale


def _pixels_start(size, wanted, parameter) -> Box:
    return 0.0, 0.0, wanted[1] * parameter, wanted[0] * parameter


def _middle(size, tall, wide) -> Box:
    top, left = (size[0] - tall) / 2, (size[1] - wide) / 2
    return left, top, left + wide, top + tall


FAMILIES: dict[str, Callable[..., Box]] = {
    "whole": _whole,
    "short side": _short_side,
    "part": _part,
    "aspect part": _aspect_part,
    "within": _within,
    "within, at the start": _within_start,
    "pixels": _pixels,
    "square": _square,
    "short side, at the start": _short_side_start,
    "pixels, at the start": _pixels_start,
}


def parameters(family: str, sizes: list[tuple[int, int]], wanted: tuple[int, int]) -> Iterator[float]:
    """What a family's parameter can be, the likeliest first where that is known."""
    if family in ("whole", "within", "within, at the start"):
        yield 0.0
    elif family.startswith("short side"):
        for short in range(1, int(max(wanted) * _LARGEST_MARGIN) + 1):
            if all(_fits(size, FAMILIES["short side"](size, wanted, short)) for size in sizes):
                yield short
    elif family in ("part", "aspect part"):
        # Parts in hundredths and eighths, and those of a resize to whole pixels around the crop.
        parts = {round(k / 200, 4) for k in range(100, 200)} | {k / 16 for k in range(8, 16)}
        yield from sorted(parts | {wanted[0] / side for side in range(wanted[0] + 1, 2 * wanted[0] + 1)}, reverse=True)
    elif family == "square":
        # For a square tensor that is the family before.
        yield from range(min(wanted) // 2, min(map(min, sizes)) + 1) if wanted[0] != wanted[1] else ()
    else:
        largest = min(min(size[0] / wanted[0], size[1] / wanted[1]) for size in sizes)
        yield from (side / wanted[0] for side in range(wanted[0] // 2, int(wanted[0] * largest) + 1))


def _fits(size: tuple[int, int], box: Box) -> bool:
    return box[0] >= -0.51 and box[1] >= -0.51 and box[2] <= size[1] + 0.51 and box[3] <= size[0] + 0.51


class Cutter:
    """Cuts boxes out of a few pictures and says how well they explain what was recorded."""

    def __init__(self, pictures: list[Picture], recorded: np.ndarray):
        upright = [as_image(picture) for picture in pictures]
        self.sizes = [(picture.height, picture.width) for picture in upright]
        self.pictures = {mirror: [turn(picture, mirror) for picture in upright] for mirror in MIRRORS}
        self.wanted = recorded.shape[1:3]
        # Enlarged tensors need no look at every pixel.
        self.rows, self.columns = (
            np.unique(np.linspace(0, side - 1, min(side, _SAMPLES)).round().astype(int)) for side in self.wanted
        )
        self.recorded = [each[self.rows][:, self.columns] for each in recorded]
        self.small = {mirror: [self._reduced(each) for each in all] for mirror, all in self.pictures.items()}

    def _reduced(self, picture: Image.Image) -> tuple[Image.Image, int]:
        by = max(1, min(picture.height // (3 * self.wanted[0]), picture.width // (3 * self.wanted[1])))
        return (picture.reduce(by) if by > 1 else picture), by

    def explain(self, family: str, parameter: float, mirror: str, smooth: bool) -> float:
        """The mean part of the recorded variance that is not explained; 1 if a box does not fit."""
        left = []
        for number, picture in enumerate(self.pictures[mirror]):
            box = FAMILIES[family](self.sizes[number], self.wanted, parameter)
            if not family.startswith("within") and not _fits(self.sizes[number], box):
                return 1.0
            left.append(self._one(number, picture, box, mirror, smooth))
        return float(np.mean(left))

    def _one(self, number: int, picture: Image.Image, box: Box, mirror: str, smooth: bool) -> float:
        height, width = self.sizes[number]
        tall, wide = self.wanted
        by = 1
        if smooth:
            picture, by = self.small[mirror][number]
        # Only the part of the box that is on the picture, and the tensor's pixels that show it.
        left, top, right, bottom = box
        across, down = (right - left) / wide, (bottom - top) / tall
        x0, x1 = max(0, int(np.ceil(-left / across - 0.01))), min(wide, int((width - left) / across + 0.01))
        y0, y1 = max(0, int(np.ceil(-top / down - 0.01))), min(tall, int((height - top) / down + 0.01))
        if x1 - x0 < 4 and wide >= 4 or y1 - y0 < 4 and tall >= 4 or x1 <= x0 or y1 <= y0:
            return 1.0
        inner = (left + x0 * across, top + y0 * down, left + x1 * across, top + y1 * down)
        inner = tuple(min(max(edge / by, 0), limit) for edge, limit in zip(inner, (picture.width, picture.height) * 2))
        method = Image.Resampling.BILINEAR if smooth else Image.Resampling.NEAREST
        pixels = np.asarray(picture.resize((x1 - x0, y1 - y0), method, box=inner))
        pixels = pixels[:, :, None] if pixels.ndim == 2 else pixels
        seen_rows, seen_columns = (self.rows >= y0) & (self.rows < y1), (self.columns >= x0) & (self.columns < x1)
        cut = pixels[self.rows[seen_rows] - y0][:, self.columns[seen_columns] - x0]
        recorded = self.recorded[number][seen_rows][:, seen_columns]
        return unexplained(cut.reshape(-1, cut.shape[2]), recorded.reshape(-1, recorded.shape[2]))


def find_placements(cutter: Cutter, count: int) -> list[Placement]:
    """The places that explain most, the best first: at most `count`, and of each family some."""
    mirrors = _likely_mirrors(cutter)
    found: list[Placement] = []
    for family in FAMILIES:
        choices = list(parameters(family, cutter.sizes, cutter.wanted))
        for mirror in mirrors:
            found += _scan(cutter, family, choices, mirror)[:5]
    found.sort(key=lambda each: each.unexplained)
    return found[:count]


def _scan(cutter: Cutter, family: str, choices: list[float], mirror: str) -> list[Placement]:
    """The places of a family, the best first. Of many parameters every few are tried, then all around the best of them."""
    tried: dict[int, Placement] = {}

    def look(number: int) -> Placement:
        left = min(cutter.explain(family, choices[number], mirror, smooth) for smooth in (True, False))
        return Placement(family, choices[number], left, mirror)

    def attempt(numbers) -> None:
        new = [number for number in numbers if 0 <= number < len(choices) and number not in tried]
        tried.update(zip(new, ThreadPool().map(look, new)))

    step = max(1, len(choices) // _TRIED_AT_FIRST)
    attempt(range(0, len(choices), step))
    for number in sorted(tried, key=lambda each: tried[each].unexplained)[:3]:
        attempt(range(number - step, number + step + 1))
    return sorted(tried.values(), key=lambda each: each.unexplained)


def _likely_mirrors(cutter: Cutter) -> list[str]:
    """The mirrorings by how much some ordinary places explain; more than one only if it is not plain."""
    wanted, sizes = cutter.wanted, cutter.sizes
    ordinary = [("whole", 0.0), ("within", 0.0), ("within, at the start", 0.0)]
    ordinary += [("aspect part", part) for part in (1.0, 0.9, 0.8, 0.7, 0.6)] + [
        ("part", part) for part in (0.9, 0.8, 0.7, 0.6)
    ]
    for family in ("pixels", "pixels, at the start", "short side, at the start"):
        choices = list(parameters(family, sizes, wanted))
        ordinary += [(family, choice) for choice in dict.fromkeys([*choices[:: max(1, len(choices) // 6)], 1.0])]
    left = {
        mirror: min(cutter.explain(family, parameter, mirror, True) for family, parameter in ordinary)
        for mirror in MIRRORS
    }
    best = min(left.values())
    doubt = best > _DOUBTFUL
    return sorted((mirror for mirror in left if doubt or left[mirror] <= best + 0.15), key=left.get)
