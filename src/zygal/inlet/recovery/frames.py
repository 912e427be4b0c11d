"""The frames that show a place on the image: what people write for it, the simplest first."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import product

import numpy as np

from zygal.inlet.edits import effective, step_edits
from zygal.inlet.recovery.coarse import Placement
from zygal.inlet.specification import Crop, Pad, Resize, Step

Frame = tuple[Step, ...]
_MISSING = "#000000"


def frames_of(placement: Placement, wanted: tuple[int, int], sizes: list[tuple[int, int]]) -> Iterator[Frame]:
    """Frames that show a place; their resize is yet to be told its convention. sizes: (height, width) of the images."""
    family, _, start = placement.family.partition(", ")
    centring = "start" if start else "down"
    at = placement.parameter
    make = {
        "whole": lambda: iter([(Resize(size=wanted),)]),
        "short side": lambda: _by_short_side(int(at), wanted, centring, sizes),
        "long side": lambda: _by_long_side(int(at), wanted, centring),
        "scale": lambda: _by_scale(at, wanted, centring, sizes),
        "part": lambda: _by_part(at, wanted),
        "margins": lambda: _by_margins(int(at), wanted),
        "part of the square": lambda: _by_square(at, wanted, sizes),
        "square around": lambda: iter([(Pad(aspect=(1, 1)), Resize(size=wanted))]),
        "part of the aspect": lambda: _by_aspect(at, wanted),
        "within": lambda: _by_within(at, wanted, centring),
        "square": lambda: iter([(_crop((int(at), int(at)), "down", min(map(min, sizes)) >= at), Resize(size=wanted))]),
    }
    yield from make[family]()


def _crop(wanted: tuple[int, int], centring: str, fits: bool) -> Crop:
    return Crop(wanted, centring, missing=None if fits else _MISSING)


def _by_short_side(side: int, wanted, centring: str, sizes) -> Iterator[Frame]:
    fits = all(round(extent * side / min(size)) >= need for size in sizes for extent, need in zip(size, wanted))
    crop = _crop(wanted, centring, fits)
    yield Resize(side), crop
    yield Resize(side, grid_scale="factor", long_side="nearest"), crop
    if wanted[0] != wanted[1]:
        return
    if side == wanted[0]:
        yield Crop(aspect=(1, 1), centring=centring), Resize(size=wanted)
        yield (Resize(size=wanted, box="aspect"),)
        yield (Resize(size=wanted, box="aspect-pixels"),)
        yield Resize(cover=wanted, grid_scale="factor", long_side="nearest"), crop
    elif side > wanted[0]:
        yield Crop(aspect=(1, 1)), Resize(size=(side, side)), Crop(wanted)


def _by_long_side(side: int, wanted, centring: str) -> Iterator[Frame]:
    if max(wanted) == min(wanted):
        yield from _by_within(side / max(wanted), wanted, centring)


def _by_within(part: float, wanted, centring: str) -> Iterator[Frame]:
    inner = tuple(round(side * part) for side in wanted)
    if part == 1:
        yield Resize(within=wanted), Pad(wanted, centring=centring)
        yield Resize(within=wanted, long_side="closest-aspect"), Pad(wanted, centring=centring)
        yield Resize(within=wanted), Pad(wanted, centring="unrounded")
        yield Resize(within=wanted, grid_scale="factor", long_side="nearest"), Pad(wanted, centring=centring)
        yield Pad(aspect=_lowest(wanted), centring=centring), Resize(size=wanted)
    elif part < 1:
        yield Resize(within=inner), Pad(wanted, centring=centring)
    else:
        yield Resize(within=inner), Crop(wanted, centring, missing=_MISSING)


def _by_scale(scale: float, wanted, centring: str, sizes) -> Iterator[Frame]:
    box = tuple(round(side * scale) for side in wanted)
    fits = all(extent >= need for size in sizes for extent, need in zip(size, box))
    if scale == 1:
        yield (_crop(wanted, centring, fits),)
        return
    yield _crop(box, centring, fits), Resize(size=wanted)
    # The factor that people write is short: hundredths, and one of whole numbers.
    near = {
        round(1 / scale, 2),
        round(1 / scale, 1),
        1 / round(scale),
        *(round(1 / scale + by / 100, 2) for by in (-1, 1)),
    }
    for factor in sorted(near, key=lambda each: abs(each - 1 / scale)):
        if factor > 0 and factor != 1 and abs(factor * scale - 1) < 0.03:
            for grid_scale in ("sizes", "factor"):
                yield Resize(factor=factor, grid_scale=grid_scale), _crop(wanted, centring, True)


def _by_part(part: float, wanted) -> Iterator[Frame]:
    larger = tuple(round(side / part) for side in wanted)
    # A resize to whole pixels around the crop makes this part only nearly.
    if abs(wanted[0] / larger[0] - part) < 2e-4:
        yield Resize(size=larger), Crop(wanted)
    for fraction in _fractions(part):
        yield Crop(fraction=fraction), Resize(size=wanted)


def _by_margins(by: int, wanted) -> Iterator[Frame]:
    yield (Crop(margins=(by,) * 4) if by > 0 else Pad(margins=(-by,) * 4)), Resize(size=wanted)


def _by_square(part: float, wanted, sizes) -> Iterator[Frame]:
    if part == 1:
        yield Crop(aspect=(1, 1)), Resize(size=wanted)
        return
    for fraction in _fractions(part):
        yield Crop(aspect=(1, 1), fraction=fraction), Resize(size=wanted)
        yield Crop(aspect=(1, 1)), Crop(fraction=fraction), Resize(size=wanted)
    if wanted[0] == wanted[1]:
        yield from _by_short_side(round(wanted[0] / part), wanted, "down", sizes)


def _by_aspect(part: float, wanted) -> Iterator[Frame]:
    aspect, larger = _lowest(wanted), tuple(round(side / part) for side in wanted)
    if part == 1:
        yield Crop(aspect=aspect), Resize(size=wanted)
        yield (Resize(size=wanted, box="aspect"),)
        yield (Resize(size=wanted, box="aspect-pixels"),)
        yield Resize(cover=wanted), Crop(wanted)
        yield Resize(cover=wanted, grid_scale="factor", long_side="nearest"), Crop(wanted)
        yield Resize(max(wanted)), Crop(wanted)
        return
    if abs(wanted[0] / larger[0] - part) < 2e-3:
        yield Resize(cover=larger), Crop(wanted)
        yield Crop(aspect=aspect), Resize(size=larger), Crop(wanted)
        yield Resize(min(larger)), Crop(wanted)
    for fraction in _fractions(part):
        yield Crop(aspect=aspect, fraction=fraction), Resize(size=wanted)


def _fractions(part: float) -> list[float]:
    """Fractions that people write near a part: hundredths, eighths and the like, and itself."""
    near = dict.fromkeys([round(part * 32) / 32, round(part, 2), round(part, 4)])
    return [fraction for fraction in near if 0 < fraction < 1 and abs(fraction - part) < 0.004]


def _lowest(size: tuple[int, int]) -> tuple[int, int]:
    by = int(np.gcd(*size))
    return size[0] // by, size[1] // by


def margins_edited(frame: Frame) -> Iterator[Frame]:
    """The frame with other roundings of its sizes and margins, in every combination."""
    names = ("long_side", "centring", "fraction_rounding")
    choices = []
    for step in frame:
        edits = [
            edited
            for name, edited in step_edits(step)
            if name in names and getattr(edited, "centring", "") not in ("start", "end")
        ]
        choices.append([effective(step), *edits])
    return product(*choices)
