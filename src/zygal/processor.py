"""What this process may use of the machine."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable
from concurrent.futures import ThreadPoolExecutor
from typing import TypeVar

Given = TypeVar("Given")
Made = TypeVar("Made")


def allowed_cores() -> int:
    """How many processor cores this process may run on."""
    if hasattr(os, "sched_getaffinity"):
        return len(os.sched_getaffinity(0))
    return os.cpu_count() or 1


def side_by_side(function: Callable[[Given], Made], items: Iterable[Given]) -> list[Made]:
    """What the function makes of each item, in their order, in as many threads as there are cores."""
    items = list(items)
    if len(items) < 2 or allowed_cores() < 2:
        return [function(item) for item in items]
    with ThreadPoolExecutor(allowed_cores()) as pool:
        return list(pool.map(function, items))
