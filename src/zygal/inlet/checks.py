"""What each key of an inlet may hold; a check raises ValueError with what would be right."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable
from difflib import get_close_matches
from typing import Any

from zygal.inlet import specification as spec
from zygal.inlet.specification import Blur, Crop, Decode, Pad, Resize, Values

LARGEST_SIDE = 16384


def meant(given: Any, known: Iterable[str]) -> str:
    """'; "filter" may be meant' where one of the known words is much like what was given, else nothing."""
    words = list(known)
    alike = get_close_matches(
        str(given).lower(), [*words, *(set(_OTHERS) if _OTHERS.get(str(given).lower()) in words else ())], 1, 0.6
    )
    word = _OTHERS.get(str(given).lower()) or (alike and _OTHERS.get(alike[0], alike[0])) or None
    return f'; "{word}" may be meant' if word in words else ""


_OTHERS = {
    "color": "colour", "gray": "grey", "grayscale": "grey", "greyscale": "grey", "gray_weights": "grey_weights",
    "centering": "centring", "centered": "centring", "center": "centring", "interpolation": "filter",
    "resample": "filter",
    "linear": "bilinear", "cubic": "bicubic", "lanczos3": "lanczos", "height": "size", "width": "size",
    "scale_factor": "factor",
    "layouts": "layout", "channels_first": "NCHW", "channels_last": "NHWC", "fill": "colour", "padding": "margins",
    "padding_mode": "border", "align_corners": "grid", "orientation": "exif", "alpha": "transparency", "flip": "mirror",
    "invert": "polarity", "bgr2rgb": "colour", "shortest_edge": "short_side", "short_edge": "short_side",
    "longest": "within",
    "half_pixel": "half-pixel", "central_fraction": "fraction", "ratio": "aspect",
}  # fmt: skip
"""Words that people write for keys and values of an inlet."""


def one_of(allowed: tuple[str, ...]) -> Callable[[Any], str]:
    """A check for one of some words."""

    def check(value: Any) -> str:
        if value not in allowed:
            raise ValueError(f"one of {', '.join(allowed)}, not {value!r}{meant(value, allowed)}")
        return value

    return check


def one_number_of(allowed: tuple[float, ...]) -> Callable[[Any], float]:
    """A check for one of some numbers."""

    def check(value: Any) -> float:
        if type(value) not in (int, float) or value not in allowed:
            raise ValueError(f"one of {', '.join(map(str, allowed))}, not {value!r}")
        return value

    return check


def boolean(value: Any) -> bool:
    """True or false."""
    if type(value) is not bool:
        raise ValueError(f"true or false, not {value!r}")
    return value


def part(value: Any) -> float:
    """A share above 0, at most 1."""
    if type(value) not in (int, float) or not 0 < value <= 1:
        raise ValueError(f"a share above 0 and at most 1, not {value!r}")
    return float(value)


def positive(value: Any) -> float:
    """A number above 0, at most 10000."""
    if type(value) not in (int, float) or not 0 < value <= 1e4:
        raise ValueError(f"a number above 0 and at most 10000, not {value!r}")
    return float(value)


def reduction(value: Any) -> float:
    """A factor from 1 to 100."""
    if type(value) not in (int, float) or not 1 <= value <= 100:
        raise ValueError(f"a number from 1 to 100, not {value!r}")
    return float(value)


def taps(value: Any) -> int:
    """An odd number of pixels, at most 255."""
    if type(value) is not int or not 1 <= value <= 255 or value % 2 == 0:
        raise ValueError(f"an odd number of pixels from 1 to 255, not {value!r}")
    return value


def margins(value: Any) -> tuple[int, int, int, int]:
    """Pixels at the four sides: top, left, bottom, right."""
    right = (
        isinstance(value, list)
        and len(value) == 4
        and all(type(each) is int and 0 <= each <= LARGEST_SIDE for each in value)
    )
    if not right or not any(value):
        raise ValueError(f"[top, bottom, left, right] in pixels, not all of them 0, not {value!r}")
    return tuple(value)


def integer(value: Any) -> int:
    """A whole number."""
    if type(value) is not int:
        raise ValueError(f"a whole number, not {value!r}")
    return value


def side(value: Any) -> int:
    """A number of pixels."""
    if type(value) is not int or not 1 <= value <= LARGEST_SIDE:
        raise ValueError(f"a number of pixels from 1 to {LARGEST_SIDE}, not {value!r}")
    return value


def size(value: Any) -> tuple[int, int]:
    """Height and width in pixels."""
    if not isinstance(value, list) or len(value) != 2:
        raise ValueError(f"[height, width] in pixels, not {value!r}")
    return side(value[0]), side(value[1])


def numbers(count: int | None = None) -> Callable[[Any], tuple[float, ...]]:
    """A check for a list of numbers, as many as that."""

    def check(value: Any) -> tuple[float, ...]:
        right = isinstance(value, list) and (len(value) == count if count else bool(value))
        if not right or not all(type(each) in (int, float) and abs(each) < 1e30 for each in value):
            raise ValueError(
                f"a list of {count or 'one number per channel'}{' numbers' if count else ''}, not {value!r}"
            )
        return tuple(float(each) for each in value)

    return check


def colour(value: Any) -> str:
    """A colour as "#rrggbb"."""
    if isinstance(value, str) and re.fullmatch("#[0-9a-fA-F]{6}", value):
        return value.lower()
    raise ValueError(f'a colour "#rrggbb", not {value!r}')


def transparency(value: Any) -> str:
    """ "drop", or the colour that lies under transparency."""
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
        "jpeg": one_of(spec.JPEG),
        "jpeg_reduction": size,
        "jpeg_grey": one_of(spec.JPEG_GREY),
        "conversion": one_of(spec.CONVERSIONS),
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
        "cover": size,
        "factor": positive,
        "box": one_of(spec.BOXES),
        "enlarge": boolean,
        "grid_scale": one_of(spec.GRID_SCALES),
        "prefilter": one_of(spec.PREFILTERS),
        "reduce_above": reduction,
    },
    Crop: {
        "size": size,
        "fraction": part,
        "aspect": size,
        "margins": margins,
        "centring": one_of(spec.CROP_CENTRINGS),
        "fraction_rounding": one_of(spec.FRACTION_ROUNDINGS),
        "missing": colour,
    },
    Pad: {
        "size": size,
        "aspect": size,
        "margins": margins,
        "border": one_of(spec.BORDERS),
        "colour": colour,
        "centring": one_of(spec.CENTRINGS),
    },
    Blur: {"sigma": positive, "taps": taps, "kind": one_of(spec.BLURS), "rounding": one_of(spec.BLUR_ROUNDINGS)},
    Values: {"range": numbers(2), "mean": numbers(), "std": numbers(), "per_image": one_of(spec.PER_IMAGE)},
}
