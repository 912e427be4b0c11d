"""The values stage in closed form: recorded numbers regressed on pixels, and the simplest way to say the result."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from zygal.inlet.specification import Values

_WHITE = 255.0
_FITTED = 40_000
"""Of more pixels than this only every few are fitted; what is left is measured on all."""


@dataclass(frozen=True)
class Line:
    """recorded = slope * pixel + offset, per channel; what is left, in grey levels.

    slope, offset: [channels]. mean and largest: absolute differences over all that was fitted.
    """

    slope: np.ndarray
    offset: np.ndarray
    mean: float
    largest: float


def fit_line(pixels: np.ndarray, recorded: np.ndarray) -> Line:
    """Least squares channel by channel over pixels and recorded numbers [count, channels].

    A channel that is flat in the pixels gets the mean slope of the others.
    """
    some = slice(None, None, max(1, len(pixels) // _FITTED))
    x, y = pixels[some].astype(np.float64), recorded[some].astype(np.float64)
    centre, level = x.mean(axis=0), y.mean(axis=0)
    variance = ((x - centre) ** 2).sum(axis=0)
    slope = np.divide(((x - centre) * (y - level)).sum(axis=0), variance, out=np.zeros_like(centre), where=variance > 0)
    known = slope != 0
    slope[~known] = slope[known].mean() if known.any() else 1.0
    offset = level - slope * centre
    residual = np.abs((recorded - offset.astype(np.float32)) / slope.astype(np.float32) - pixels)
    return Line(slope, offset, float(residual.mean()), float(residual.max()))


def unexplained(pixels: np.ndarray, recorded: np.ndarray) -> float:
    """The part of the recorded numbers' variance [count, channels] that no mixture of the pixels' channels explains."""
    basis = np.concatenate([pixels, np.ones((len(pixels), 1), np.float32)], axis=1).astype(np.float64)
    y = recorded.astype(np.float64)
    total = ((y - y.mean(axis=0)) ** 2).sum()
    if total == 0:
        return 1.0
    gram = basis.T @ basis
    gram[np.diag_indices(len(gram) - 1)] += 1e-9 * np.trace(gram)
    weights = np.linalg.solve(gram, basis.T @ y)
    return float(((y - basis @ weights) ** 2).sum() / total)


def values_of(line: Line) -> Values:
    """The simplest range, mean and std that make this line, to a thousandth of a grey level or the noise of the fit."""
    slope, offset = line.slope, line.offset
    known = _well_known(slope, offset, max(_CLOSE, 0.05 * line.mean))
    if known is not None:
        return known
    allowed = max(1e-3, 0.02 * line.mean)
    ways = [
        values
        for make in (_by_range, _by_mean_and_std, _by_mean_and_std_in_levels)
        if (values := make(slope, offset, allowed)) is not None
    ]
    return min(ways, key=_length)


_CLOSE = 0.02
"""Grey levels within which constants that everybody uses are meant."""
_MEANS = (
    ((0.485, 0.456, 0.406), (0.229, 0.224, 0.225)),
    ((0.5,) * 3, (0.5,) * 3),
    ((0.48145466, 0.4578275, 0.40821073), (0.26862954, 0.26130258, 0.27577711)),
)
_IN_LEVELS = ((103.939, 116.779, 123.68), (103.94, 116.78, 123.68), (104.0, 117.0, 123.0))
WELL_KNOWN = (
    Values(),
    Values((-1.0, 1.0)),
    Values((0.0, 255.0)),
    Values((1.0, 0.0)),
    *(Values((0.0, 1.0), mean[::step], std[::step]) for mean, std in _MEANS for step in (1, -1)),
    *(Values((0.0, 255.0), mean[::step]) for mean in _IN_LEVELS for step in (1, -1)),
)
"""Values stages with the constants that training code has most often."""


def _well_known(slope: np.ndarray, offset: np.ndarray, allowed: float) -> Values | None:
    """The well-known values that take black and white to where this line does, to `allowed` grey levels."""
    found: dict[Values, float] = {}
    for values in WELL_KNOWN:
        if values.mean and len(values.mean) != len(slope):
            continue
        low, high = values.range
        mean, std = np.array(values.mean or (0.0,)), np.array(values.std or (1.0,))
        ends = (low - mean) / std, (high - mean) / std
        found[values] = max(
            np.abs((end - (offset + slope * level)) / slope).max() for end, level in zip(ends, (0.0, _WHITE))
        )
    closest = min(found, key=found.get)
    return closest if found[closest] <= allowed else None


def _by_range(slope: np.ndarray, offset: np.ndarray, allowed: float) -> Values | None:
    """All channels alike: where black and white go."""
    a, b = slope.mean(), offset.mean()
    if max(np.abs(slope / a - 1).max() * _WHITE, np.abs(offset - b).max() / abs(a)) > allowed:
        return None
    low = _shortest(b, allowed / 2 * abs(a))
    return Values((low, _shortest(a * _WHITE + low, allowed / 2 * abs(a))))


def _by_mean_and_std(slope: np.ndarray, offset: np.ndarray, allowed: float) -> Values | None:
    return _solved(slope, offset, allowed, (0.0, 1.0))


def _by_mean_and_std_in_levels(slope: np.ndarray, offset: np.ndarray, allowed: float) -> Values | None:
    values = _solved(slope, offset, allowed, (0.0, _WHITE))
    # A range in grey levels with numbers of 0 to 1 is refused when an inlet is read: it is nearly always a slip.
    small = values and values.mean and max(map(abs, (*values.mean, *(values.std or ())))) <= 1
    return None if small else values


def _solved(slope: np.ndarray, offset: np.ndarray, allowed: float, range_: tuple[float, float]) -> Values:
    low, high = range_
    unit = (high - low) / _WHITE
    std = tuple(_shortest(unit / a, abs(unit / a) * allowed / 2 / _WHITE) for a in slope)
    mean = tuple(_shortest(low - b * s, allowed / 2 * unit) for b, s in zip(offset, std))
    return Values(range_, mean if any(mean) else None, None if all(each == 1 for each in std) else std)


def _shortest(number: float, allowed: float) -> float:
    """The number with the fewest digits that is within `allowed`."""
    if abs(number) <= allowed:
        return 0.0
    for digits in range(1, 17):
        short = float(f"{number:.{digits}g}")
        if abs(short - number) <= allowed:
            return short
    return float(number)


def _length(values: Values) -> tuple[int, int]:
    """How much has to be said: numbers beyond the usual range, then digits."""
    usual = values.range in ((0.0, 1.0), (0.0, _WHITE), (-1.0, 1.0))
    numbers = [*(() if usual else values.range), *(values.mean or ()), *(values.std or ())]
    digits = sum(len(repr(each).strip("-").replace(".", "").strip("0")) for each in numbers)
    return digits, (values.range != (0.0, 1.0)) + (values.range == (-1.0, 1.0))
