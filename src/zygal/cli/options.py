"""How the values of options are written on a command line, by the kinds that requests name."""

from __future__ import annotations

import argparse
import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any


def number_list(text: str) -> list[int]:
    """Whole numbers separated by commas, for argparse."""
    try:
        return [int(part) for part in text.split(",")]
    except ValueError:
        raise argparse.ArgumentTypeError(f"{text!r} is not a list of whole numbers like 1,2,4") from None


def word_list(text: str) -> list[str]:
    """Words separated by commas, for argparse."""
    return [part.strip() for part in text.split(",") if part.strip()]


def share(text: str) -> float:
    """A percentage like 2% or 300%, or a share like 0.02, as a number, for argparse. A number above 1 needs its
    sign."""
    percentage = text.endswith("%")
    try:
        number = float(text[:-1]) / 100 if percentage else float(text)
    except ValueError:
        number = math.nan
    if not 0 <= number < math.inf or number > 1 and not percentage:
        hint = f"; did you mean {text}%?" if 1 < number <= 100 else ""
        raise argparse.ArgumentTypeError(
            f"{text!r} is not a percentage like 5%, or a share from 0 to 1 like 0.05{hint}"
        )
    return number


def share_of_one(text: str) -> float:
    """A percentage from 0% to 100%, or a share from 0 to 1, for argparse."""
    number = share(text)
    if number > 1:
        raise argparse.ArgumentTypeError(f"{text!r} is more than 100%")
    return number


def limit(text: str) -> float:
    """A limit of a gate: a number of at least 0, for argparse."""
    try:
        number = float(text)
    except ValueError:
        number = math.nan
    if not 0 <= number < math.inf:
        raise argparse.ArgumentTypeError(f"{text!r} is not a number of at least 0")
    return number


def factor(text: str) -> float:
    """How many times, like 2x or 1.5, for argparse."""
    try:
        number = float(text.removesuffix("x"))
    except ValueError:
        number = math.nan
    if not 0 < number < math.inf:
        raise argparse.ArgumentTypeError(f"{text!r} is not a factor like 2x or 1.5x")
    return number


def seconds(text: str) -> float:
    """A time like 50ms, 1.5s or 200us in seconds, for argparse."""
    for unit, factor in (("ms", 1e-3), ("us", 1e-6), ("s", 1.0)):
        if text.endswith(unit):
            try:
                number = float(text.removesuffix(unit)) * factor
            except ValueError:
                break
            if 0 <= number < math.inf:
                return number
            break
    raise argparse.ArgumentTypeError(f"{text!r} is not a time with its unit, like 50ms or 1.5s")


def count(text: str) -> int:
    """A whole number that may be written like 1e9, for argparse."""
    try:
        value = float(text)
    except ValueError:
        raise argparse.ArgumentTypeError(f"{text!r} is not a number like 1000000 or 1e9") from None
    if value != value or value in (float("inf"), float("-inf")) or value != int(value):
        raise argparse.ArgumentTypeError(f"{text!r} is not a whole number")
    return int(value)


def input_shape(text: str) -> tuple[str, tuple[int, ...]]:
    """NAME=SIZE,SIZE, for argparse."""
    name, _, sizes = text.rpartition("=")
    if not name:
        raise argparse.ArgumentTypeError(f"{text!r} is not NAME=SIZE,SIZE, like image=3,224,224")
    shape = tuple(number_list(sizes)) if sizes else ()
    if any(size < 1 for size in shape):
        raise argparse.ArgumentTypeError(f"{text!r} has a size below 1")
    return name, shape


def rates(text: str) -> list[float]:
    """Numbers separated by commas, for argparse."""
    try:
        return [float(part) for part in text.split(",")]
    except ValueError:
        raise argparse.ArgumentTypeError(f"{text!r} is not a list of rates like 100,200") from None


def shown(value: object) -> str:
    """A value as it is written on a command line."""
    if isinstance(value, Sequence) and not isinstance(value, str):
        return ",".join(map(str, value))
    return f"{value:g}" if isinstance(value, float) else str(value)


def shown_share(value: float) -> str:
    """As a percentage; the sign is doubled, as argparse wants it in a help text."""
    return f"{100 * value:g}%%"


@dataclass(frozen=True)
class Kind:
    """parse: a value from its text, for argparse. shown: a default as text. several: one text holds several values."""

    parse: Callable[[str], Any] | None
    shown: Callable[[Any], str] = shown
    several: bool = False


KINDS = {
    None: Kind(None),
    "int": Kind(int),
    "float": Kind(float),
    "count": Kind(count, "{:,}".format),
    "factor": Kind(factor),
    "limit": Kind(limit),
    "seconds": Kind(seconds, "{:g}s".format),
    "share": Kind(share, shown_share),
    "share of one": Kind(share_of_one, shown_share),
    "numbers": Kind(number_list, several=True),
    "rates": Kind(rates, several=True),
    "words": Kind(word_list, several=True),
    "input shape": Kind(input_shape),
}
