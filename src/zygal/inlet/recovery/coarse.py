"""Where the tensor lies on the image: the boxes that frames can cut, tried by correlation, whatever the colours became.

A frame of any kind shows some box of the image. Boxes come in families of one parameter at most; all of a family are
cut out at once, at a few points, and the recorded channels are regressed on the picture's three, so that neither the
colours' order nor the values stage need be known.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from zygal.inlet.decode import Picture
from zygal.inlet.frame import as_image
from zygal.inlet.specification import MIRRORS

_SAMPLES = 24
_AT_ONCE = 160
_LEAST_SEEN = 0.25


@dataclass(frozen=True)
class Placement:
    """A family's box and how badly it explains: family, parameter, 0 for perfect to 1 for not at all."""

    family: str
    parameter: float
    unexplained: float
    mirror: str = "none"


def families(wanted: tuple[int, int], sizes: list[tuple[int, int]]) -> dict[str, np.ndarray]:
    """Every family with the parameters that are tried; see `boxes`."""
    tall, wide = wanted
    sides = np.arange(max(2, min(wanted) // 3), 2 * max(wanted) + 1, dtype=float)
    shortest, longest = min(map(min, sizes)), max(map(max, sizes))
    hundredths = np.arange(40, 160) / 100
    parts = np.unique(np.r_[hundredths, np.arange(8, 17) / 16, tall / np.arange(tall + 1, 2 * tall + 1)])
    pixels = np.arange(min(tall, wide) // 2, int(longest * max(1.0, min(wanted) / max(wanted))) + 1) / min(wanted)
    pixels = np.unique(np.r_[1.0, pixels[:: max(1, len(pixels) // 500)]])
    found = {
        "whole": np.zeros(1),
        "short side": sides,
        "long side": sides,
        "scale": pixels,
        "part": parts[parts < 1],
        "margins": np.r_[np.arange(-80, 0), np.arange(1, min(120, shortest // 2 - 4))].astype(float),
        "short side, at the start": sides,
        "long side, at the start": sides,
        "scale, at the start": pixels,
        "part of the square": parts[parts <= 1],
        "square around": np.zeros(1),
    }
    if tall != wide:
        found |= {
            "part of the aspect": parts[parts <= 1],
            "within": parts,
            "within, at the start": np.ones(1),
            "square": np.arange(min(wanted) // 2, longest + 1, dtype=float),
        }
    return found


def boxes(family: str, size: tuple[int, int], wanted: tuple[int, int], parameter: np.ndarray) -> np.ndarray:
    """[count, 4]: top, left, height and width of the box on an image of `size`, parts of pixels included."""
    (height, width), (tall, wide) = size, wanted
    name, _, at_start = family.partition(", ")
    one = np.ones_like(parameter)
    if name in ("short side", "long side", "scale"):
        # One length of the image for each pixel of the tensor.
        by = {"short side": min(size), "long side": max(size)}.get(name)
        scale = by / parameter if by else parameter
        sides = tall * scale, wide * scale
    elif name in ("part of the aspect", "within"):
        inside = (
            min(height / tall, width / wide) * parameter
            if name == "part of the aspect"
            else max(height / tall, width / wide) / parameter
        )
        sides = tall * inside, wide * inside
    else:
        sides = {
            "whole": (height * one, width * one),
            "part": (height * parameter, width * parameter),
            "margins": (height - 2 * parameter, width - 2 * parameter),
            "part of the square": (min(size) * parameter,) * 2,
            "square around": (max(size) * one,) * 2,
            "square": (parameter, parameter),
        }[name]
    start = (0 * one, 0 * one) if at_start else tuple((side - part) / 2 for side, part in zip(size, sides))
    return np.stack([*start, *sides], axis=1)


class Cutter:
    """Cuts boxes out of a few pictures and says how well they explain what was recorded."""

    def __init__(self, pictures: list[Picture], recorded: np.ndarray):
        upright = [as_image(picture) for picture in pictures]
        self.sizes = [(picture.height, picture.width) for picture in upright]
        self.wanted = recorded.shape[1:3]
        # The same from both ends, so that a mirrored tensor is the same points in another order.
        self.places = [_symmetric(side) for side in self.wanted]
        self.recorded = [each[self.places[0]][:, self.places[1]].astype(np.float32) for each in recorded]
        self.levels = []
        for picture in upright:
            made = {}
            for by in (1, 2, 3, 4, 6, 8):
                if min(picture.size) >= 4 * by:
                    array = np.asarray(picture.reduce(by) if by > 1 else picture, np.float32)
                    made[by] = array[:, :, None] if array.ndim == 2 else array
            self.levels.append(made)

    def explain(self, number: int, found: np.ndarray, mirrors: tuple[str, ...]) -> dict[str, np.ndarray]:
        """For each mirroring, of each box [count, 4] the part of one recorded tensor's variance that it does not
        explain."""
        asymmetric = not np.allclose(found, _mirrored(found, self.sizes[number], "both"))
        if asymmetric and len(mirrors) > 1:
            return {mirror: self.explain(number, found, (mirror,))[mirror] for mirror in mirrors}
        found = _mirrored(found, self.sizes[number], mirrors[0])
        left = {mirror: np.ones(len(found)) for mirror in mirrors}
        levels = np.array(list(self.levels[number]))
        scale = np.maximum(found[:, 2] / self.wanted[0], found[:, 3] / self.wanted[1])
        level = levels[np.maximum(0, np.searchsorted(levels, scale * 1.001, side="right") - 1)]
        for by in np.unique(level):
            chosen = np.flatnonzero(level == by)
            for start in range(0, len(chosen), _AT_ONCE):
                some = chosen[start : start + _AT_ONCE]
                cut, seen = self._cut(number, found[some], int(by))
                for mirror in mirrors:
                    left[mirror][some] = _unexplained(cut, seen, self._turned(number, mirror))
        return left

    def _turned(self, number: int, mirror: str) -> np.ndarray:
        recorded = self.recorded[number]
        recorded = recorded[::-1] if mirror in ("vertical", "both") else recorded
        return recorded[:, ::-1] if mirror in ("horizontal", "both") else recorded

    def _cut(self, number: int, found: np.ndarray, by: int) -> tuple[np.ndarray, np.ndarray]:
        """[count, rows, columns, C] between the pixels of a reduced picture, and whether each point is on it."""
        picture, size = self.levels[number][by], self.sizes[number]
        lower, part, inside = [], [], []
        for axis in (0, 1):
            at = found[:, axis, None] + (self.places[axis] + 0.5) * (found[:, 2 + axis, None] / self.wanted[axis])
            inside.append((at >= 0) & (at <= size[axis]))
            at = (at / by - 0.5).clip(0, picture.shape[axis] - 1.001)
            lower.append(at.astype(np.int64))
            part.append((at - lower[-1]).astype(np.float32))
        rows, columns = lower[0][:, :, None], lower[1][:, None, :]
        down, across = part[0][:, :, None, None], part[1][:, None, :, None]
        above = picture[rows, columns] * (1 - across) + picture[rows, columns + 1] * across
        below = picture[rows + 1, columns] * (1 - across) + picture[rows + 1, columns + 1] * across
        return above * (1 - down) + below * down, inside[0][:, :, None] & inside[1][:, None, :]


def _mirrored(found: np.ndarray, size: tuple[int, int], mirror: str) -> np.ndarray:
    """Boxes on the mirrored image as boxes on the image itself."""
    turned = found.copy()
    for axis, directions in ((0, ("vertical", "both")), (1, ("horizontal", "both"))):
        if mirror in directions:
            turned[:, axis] = size[axis] - found[:, axis] - found[:, 2 + axis]
    return turned


def _symmetric(side: int) -> np.ndarray:
    half = (
        np.unique(np.linspace(0, side // 2 - 1, min(side // 2, _SAMPLES // 2)).round().astype(int))
        if side > 1
        else np.zeros(0, int)
    )
    middle = [side // 2] if side % 2 else []
    return np.r_[half, middle, side - 1 - half[::-1]].astype(int)


def _unexplained(cut: np.ndarray, seen: np.ndarray, recorded: np.ndarray) -> np.ndarray:
    """[count]: the part of the variance [rows, columns, C] that no mixture of the channels of `cut` explains, where
    seen."""
    count = len(cut)
    x = cut.reshape(count, -1, cut.shape[3])
    weight = seen.reshape(count, -1).astype(np.float32)
    y = recorded.reshape(-1, recorded.shape[2])
    # As differences from rough means, so that float32 is enough.
    x = np.concatenate([(x - 110.0) / 64.0, np.ones((count, x.shape[1], 1), np.float32)], axis=2)
    y = (y - y.mean(axis=0)) / max(float(y.std()), 1e-12)
    weighted = x * weight[:, :, None]
    gram = np.matmul(weighted.transpose(0, 2, 1), x).astype(np.float64)
    mixed = np.matmul(weighted.transpose(0, 2, 1), y[None]).astype(np.float64)
    squares, sums, total = weight @ (y * y), weight @ y, weight.sum(axis=1)
    gram[:, range(x.shape[2] - 1), range(x.shape[2] - 1)] += 1e-6 * np.trace(gram, axis1=1, axis2=2)[:, None] + 1e-9
    gram[:, -1, -1] += 1e-9
    solved = np.linalg.solve(gram, mixed)
    variance = (squares - sums**2 / np.maximum(total, 1)[:, None]).sum(axis=1)
    residual = squares.sum(axis=1) - (solved * mixed).sum(axis=(1, 2))
    left = np.where(variance > 1e-6, residual / np.maximum(variance, 1e-9), 1.0)
    return np.where(total < _LEAST_SEEN * weight.shape[1], 1.0, left.clip(0, 1))


def find_placements(cutter: Cutter, count: int, each: int = 8) -> list[Placement]:
    """The places that explain most, the best first: at most `count`, and of each family some."""
    kinds = families(cutter.wanted, cutter.sizes)
    mirrors = _likely_mirrors(cutter, kinds)
    found: list[Placement] = []
    numbers = range(len(cutter.sizes))
    for family, parameters in kinds.items():
        first = cutter.explain(0, boxes(family, cutter.sizes[0], cutter.wanted, parameters), mirrors)
        for mirror in mirrors:
            # What the first image speaks against need not be tried on the others.
            some = np.argsort(first[mirror])[: max(40, len(parameters) // 4)]
            left = first[mirror][some]
            for number in numbers[1:]:
                left = (
                    left
                    + cutter.explain(
                        number, boxes(family, cutter.sizes[number], cutter.wanted, parameters[some]), (mirror,)
                    )[mirror]
                )
            order = np.argsort(left)[:each]
            found += [
                Placement(family, float(parameters[some[place]]), float(left[place] / len(numbers)), mirror)
                for place in order
            ]
    found.sort(key=lambda place: place.unexplained)
    return _varied(found, count)


def _varied(found: list[Placement], count: int) -> list[Placement]:
    """The best, but of each family no more than a third."""
    kept, times = [], {}
    for place in found:
        if times.get(place.family, 0) < max(3, count // 3) and len(kept) < count:
            kept.append(place)
            times[place.family] = times.get(place.family, 0) + 1
    return kept


def _likely_mirrors(cutter: Cutter, kinds: dict[str, np.ndarray]) -> tuple[str, ...]:
    """The mirrorings by how much some ordinary places explain; more than one only if it is not plain."""
    best = dict.fromkeys(MIRRORS, 1.0)
    for family, parameters in kinds.items():
        some = parameters[:: max(1, len(parameters) // 40)]
        for number in range(min(2, len(cutter.sizes))):
            left = cutter.explain(number, boxes(family, cutter.sizes[number], cutter.wanted, some), MIRRORS)
            best = {mirror: min(best[mirror], float(left[mirror].min())) for mirror in MIRRORS}
    least = min(best.values())
    return tuple(mirror for mirror in MIRRORS if best[mirror] <= least + (0.15 if least < 0.3 else 0.02))
