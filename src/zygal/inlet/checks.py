"""What each key of an inlet may hold; a check raises ValueError with what would be right."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Any

from zygal.inlet import specification as spec
from zygal.inlet.specification import Crop, Decode, Pad, Resize, Values

LARGEST_SIDE = 16384


def one_of(allowed: tuple[str, ...]) -> Callable[[Any], str]:
    def check(value: Any) -> str:
        if value not in allowed:
            raise ValueError(f"one of {', '.join(allowed)}, not {value!r}")
        return value

    return check


def one_number_of(allowed: tuple[float, ...]) -> Callable[[Any], float]:
    def check(value: Any) -> float:
        if type(value) not in (int, float) or value not in allowed:
            raise ValueError(f"one of {', '.join(map(str, allowed))}, not {value!r}")
        return value

    return check


def boolean(value: Any) -> bool:
    if type(value) is not bool:
        raise ValueError(f"true or false, not {value!r}")
    return value


def part(value: Any) -> float:
    if type(value) not in (int, float) or not 0 < value <= 1:
        raise ValueError(f"a share above 0 and at most 1, not {value!r}")
    return float(value)


def integer(value: Any) -> int:
    if type(value) is not int:
        raise ValueError(f"a whole number, not {value!r}")
    return value


def side(value: Any) -> int:
    if type(value) is not int or not 1 <= value <= LARGEST_SIDE:
        raise ValueError(f"a number of pixels from 1 to {LARGEST_SIDE}, not {value!r}")
    return value


def size(value: Any) -> tuple[int, int]:
    if not isinstance(value, list) or len(value) != 2:
        raise ValueError(f"[height, width] in pixels, not {value!r}")
    return side(value[0]), side(value[1])


def numbers(count: int | None = None) -> Callable[[Any], tuple[float, ...]]:
    def check(value: Any) -> tuple[float, ...]:
        right = isinstance(value, list) and (len(value) == count if count else bool(value))
        if not right or not all(type(each) in (int, float) and abs(each) < 1e30 for each in value):
            raise ValueError(f"a list of {count or 'one number per channel'}{' numbers' if count else ''}, not {value!r}")
        return tuple(float(each) for each in value)

    return check


def colour(value: Any) -> str:
    if isinstance(value, str) and re.fullmatch("#[0-9a-fA-F]{6}", value):
        return value.lower()
    raise ValueError(f'a colour "#rrggbb", not {value!r}')


def transparency(value: Any) -> str:
    try:
        return value if value == "drop" else colour(value)
    except ValueError:
        raise ValueError(f'"drop" or a colour "#rrggbb" to lay the image over, not {value!r}') from None


CHECKS: dict[type, dict[str, Callable[[Any], Any]]] = {
    Decode: {
        "colour": one_of(spec.COLOURS),
        "exif": one_of(spec.EXIF),
        "transparency": transparency,
        "grey_weights": numbers(3),
        "grey_rounding": one_of(spec.GREY_ROUNDINGS),
        "grey_channels": one_number_of((1, 3)),
        "sixteen_bit": one_of(spec.SIXTEEN_BIT),
        "polarity": one_of(spec.POLARITIES),
        "mirror": one_of(spec.MIRRORS),
    },
    Resize: {
        "short_side": side,
        "size": size,
        "within": size,
        "filter": one_of(spec.FILTERS),
        "long_side": one_of(spec.LONG_SIDES),
        "grid": one_of(spec.GRIDS),
        "antialias": boolean,
        "edges": one_of(spec.EDGES),
        "cubic": one_number_of(spec.CUBICS),
        "rounding": one_of(spec.ROUNDINGS),
        "scale": one_of(spec.SCALES),
        "order": one_of(spec.ORDERS),
    },
    Crop: {
        "size": size,
        "fraction": part,
        "aspect": size,
        "centring": one_of(spec.CENTRINGS),
        "fraction_rounding": one_of(spec.FRACTION_ROUNDINGS),
    },
    Pad: {"size": size, "aspect": size, "colour": colour, "centring": one_of(spec.CENTRINGS)},
    Values: {"range": numbers(2), "mean": numbers(), "std": numbers(), "per_image": one_of(spec.PER_IMAGE)},
}
