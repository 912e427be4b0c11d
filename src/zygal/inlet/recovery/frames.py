"""The frames that show a place, and the ways of resampling, each tried on a few rows and columns only."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np

from zygal.inlet.decode import turn
from zygal.inlet.recovery.coarse import Placement
from zygal.inlet.recovery.fit import unexplained
from zygal.inlet.resampling import Windows, across_columns, across_rows, windows
from zygal.inlet.specification import GRIDS, Crop, Pad, Resize, Step, margin, size_after

_SAMPLES = 32
_SMALL = 12_000_000

FILTERINGS: tuple[Resize, ...] = (
    Resize(filter="bilinear"),
    Resize(filter="bilinear", antialias=False),
    Resize(filter="nearest"),
    Resize(filter="nearest", grid="asymmetric"),
    Resize(filter="bicubic"),
    Resize(filter="area"),
    Resize(filter="box"),
    Resize(filter="lanczos"),
    Resize(filter="hamming"),
    Resize(filter="adaptive"),
    Resize(filter="bicubic", antialias=False),
    Resize(filter="bicubic", antialias=False, cubic=-0.75, edges="repeat"),
    Resize(filter="bicubic", cubic=-0.75),
    Resize(filter="lanczos", antialias=False),
    Resize(filter="lanczos4", antialias=False, edges="repeat"),
    Resize(filter="lanczos4"),
    Resize(filter="lanczos5"),
    Resize(filter="lanczos5", antialias=False),
    Resize(filter="hamming", antialias=False),
    Resize(filter="nearest", grid="corners"),
    *(
        Resize(filter=name, antialias=False, grid=grid, cubic=cubic, edges="repeat" if cubic == -0.75 else "inside")
        for grid in GRIDS[1:]
        for name, cubic in (("bilinear", -0.5), ("bicubic", -0.5), ("bicubic", -0.75), ("lanczos", -0.5), ("hamming", -0.5))
    ),
    *(Resize(filter=name, grid=grid) for grid in GRIDS[1:] for name in ("bilinear", "bicubic", "lanczos", "box", "hamming")),
)  # fmt: skip
"""Every convention of resampling, the usual ones first; what only rounding or borders tell apart once."""
FIRST_WAYS = 7


def frames_of(placement: Placement, wanted: tuple[int, int]) -> Iterator[tuple[Step, ...]]:
    """Frames that show a place, the simplest first; their resize is yet to be told its filter."""
    family, at_start = placement.family.partition(", ")[0], placement.family.endswith("start")
    crop = Crop(wanted, "start" if at_start else "down")
    if family == "whole":
        yield (Resize(size=wanted),)
    elif family == "short side":
        yield Resize(int(placement.parameter)), crop
        if placement.parameter == max(wanted) and not at_start:
            yield Crop(aspect=_lowest(wanted)), Resize(size=wanted)
    elif family == "within":
        yield Resize(within=wanted), Pad(wanted, centring=crop.centring)
        yield Pad(aspect=_lowest(wanted), centring=crop.centring), Resize(size=wanted)
    elif family == "square":
        yield Crop((int(placement.parameter), int(placement.parameter))), Resize(size=wanted)
    elif family == "pixels":
        if placement.parameter == 1:
            yield (crop,)
        else:
            box = tuple(round(side * placement.parameter) for side in wanted)
            yield Crop(box, crop.centring), Resize(size=wanted)
    else:
        yield from _frames_of_part(placement, wanted)


def _frames_of_part(placement: Placement, wanted: tuple[int, int]) -> Iterator[tuple[Step, ...]]:
    whole = placement.family == "part"
    larger = tuple(round(side / placement.parameter) for side in wanted)
    # A resize to whole pixels around the crop makes this part only nearly.
    if abs(wanted[0] / larger[0] - placement.parameter) < 2e-4:
        yield (
            (Resize(size=larger), Crop(wanted))
            if whole
            else (
                Crop(aspect=_lowest(wanted)),
                Resize(size=larger),
                Crop(wanted),
            )
        )
    fraction = Crop(fraction=round(placement.parameter, 4))
    yield (fraction, Resize(size=wanted)) if whole else (Crop(aspect=_lowest(wanted)), fraction, Resize(size=wanted))
    if not whole:
        yield Resize(min(larger)), Crop(wanted)


def _lowest(size: tuple[int, int]) -> tuple[int, int]:
    by = int(np.gcd(*size))
    return size[0] // by, size[1] // by


def with_filtering(frame: tuple[Step, ...], filtering: Resize) -> tuple[Step, ...]:
    """The frame with the resize done in this way, to the size that it had."""
    return tuple(
        replace(filtering, short_side=step.short_side, size=step.size, within=step.within, long_side=step.long_side)
        if isinstance(step, Resize)
        else step
        for step in frame
    )


@dataclass
class Prober:
    """Runs frames on a few rows and columns of some pictures, without rounding, and says how badly they explain."""

    pictures: list[np.ndarray]
    recorded: np.ndarray

    def __post_init__(self):
        generator = np.random.default_rng(0)
        # Chosen at random, so that no regular sampling falls in step with a reduction.
        self.rows, self.columns = (
            np.sort(generator.choice(side, min(side, _SAMPLES), replace=False)) for side in self.recorded.shape[1:3]
        )
        self.wanted = [each[self.rows][:, self.columns] for each in self.recorded]
        self._turned = lru_cache(maxsize=None)(self._turn)
        self._sampled = lru_cache(maxsize=4096)(self._sample)

    def explain(self, frame: tuple[Step, ...], mirror: str = "none", images: int | None = None) -> float:
        """The mean part of the recorded variance that is not explained, of the first images; 1 if the frame does not fit."""
        unexplained_parts = []
        for number in range(min(images or len(self.pictures), len(self.pictures))):
            value = self._sampled(number, frame, mirror)
            if value is None:
                return 1.0
            unexplained_parts.append(value)
        return float(np.mean(unexplained_parts))

    def _turn(self, number: int, mirror: str) -> np.ndarray:
        picture = turn(self.pictures[number], mirror)
        # Small pictures are kept as the numbers that the sums take.
        return np.ascontiguousarray(picture, np.float32 if picture.size < _SMALL else picture.dtype)

    def _sample(self, number: int, frame: tuple[Step, ...], mirror: str) -> float | None:
        picture = self._turned(number, mirror)
        plan = [_axis_plan(picture.shape[:2], frame, axis, self.recorded.shape[1:3]) for axis in (0, 1)]
        if None in plan:
            return None
        (rows, row_inside), (columns, column_inside) = plan
        keep_rows, keep_columns = row_inside[self.rows], column_inside[self.columns]
        if not keep_rows.any() or not keep_columns.any():
            return None
        pixels = across_rows(picture, _some(rows, self.rows[keep_rows]))
        pixels = across_columns(pixels, _some(columns, self.columns[keep_columns]))
        recorded = self.wanted[number][keep_rows][:, keep_columns]
        return unexplained(pixels.reshape(-1, pixels.shape[2]), recorded.reshape(-1, recorded.shape[2]))


def _some(by: Windows, rows: np.ndarray) -> Windows:
    return Windows(by.first[rows], by.weights[rows])


def _axis_plan(
    size: tuple[int, int], frame: tuple[Step, ...], axis: int, wanted: tuple[int, int]
) -> tuple[Windows, np.ndarray] | None:
    """One axis of a frame as windows on the picture, and which outputs they make without padding; None if it does not fit."""
    inner_size, offset = size[axis], 0
    by: Windows | None = None
    for step in frame:
        after = size_after(size, step)
        spare = size[axis] - after[axis]
        if isinstance(step, Resize):
            found = windows(size[axis], after[axis], step)
            by = Windows(found.first + offset, found.weights)
        elif spare and (spare < 0) != isinstance(step, Pad):
            return None
        else:
            start = margin(abs(spare), step.centring) * (1 if isinstance(step, Crop) else -1)
            if by is None:
                offset += start
            else:
                by = _part_of(by, start, after[axis])
        size = after
    if size != wanted:
        return None
    if by is None:
        by = Windows(np.arange(size[axis]) + offset, np.ones((size[axis], 1)))
    inside = (by.first >= 0) & (by.first + by.weights.shape[1] <= inner_size)
    return by, inside


def _part_of(by: Windows, start: int, count: int) -> Windows:
    """Outputs `start` and on; where there are none, windows that lie outside of any picture."""
    outputs = np.arange(start, start + count)
    known = (outputs >= 0) & (outputs < len(by.first))
    outputs = outputs.clip(0, len(by.first) - 1)
    return Windows(np.where(known, by.first[outputs], -1), by.weights[outputs])
