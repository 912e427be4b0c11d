"""The rules of a plan's values: a function gives the value as it is used, or raises Misfit with what was wanted."""

from __future__ import annotations

import math
import re
from collections.abc import Callable
from typing import Any

from zygal.files.documents import Misfit, either, text, truth, whole

__all__ = [
    "at_least_zero",
    "either",
    "positive",
    "release",
    "share",
    "shares",
    "sizes",
    "tables",
    "text",
    "truth",
    "whole",
]


def _number(value: Any, fits: Callable[[float], bool], wanted: str) -> float:
    if type(value) not in (int, float) or not math.isfinite(value) or not fits(value):
        raise Misfit(wanted, value)
    return float(value)


def positive(value: Any) -> float:
    """A number above 0."""
    return _number(value, lambda number: number > 0, "a number above 0")


def at_least_zero(value: Any) -> float:
    """A number of at least 0."""
    return _number(value, lambda number: number >= 0, "a number of at least 0")


def share(value: Any) -> float:
    """A share from 0 to 1."""
    return _number(value, lambda number: 0 <= number <= 1, "a share from 0 to 1, like 0.95")


def shares(value: Any) -> dict[str, float]:
    """A share by name."""
    if type(value) is not dict:
        raise Misfit("a table of names with a share each", value)
    return {text(name): share(each) for name, each in value.items()}


def sizes(value: Any) -> tuple[int, ...]:
    """Whole numbers of at least 1."""
    if type(value) is not list or not value:
        raise Misfit("a list of whole numbers, like [1, 8]", value)
    return tuple(whole(1, 1 << 20)(each) for each in value)


def tables(value: Any) -> tuple[dict[str, Any], ...]:
    """A list of tables."""
    if type(value) is not list or not all(type(each) is dict for each in value):
        raise Misfit("tables of the form [[speed.limits]]", value)
    return tuple(value)


def release(value: Any) -> str:
    """A release of a runtime, like 1.16."""
    if type(value) is not str or not re.fullmatch(r"\d+(\.\d+){1,2}", value):
        raise Misfit('a release in quotes, like "1.16"', value)
    return value
