"""What this process may use of the machine."""

from __future__ import annotations

import math
import os
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import TypeVar

Given = TypeVar("Given")
Made = TypeVar("Made")

CONTROL_GROUPS = Path("/sys/fs/cgroup")


def cores_by_affinity() -> int:
    """How many processor cores this process may be put on."""
    if hasattr(os, "sched_getaffinity"):
        return len(os.sched_getaffinity(0))
    return os.cpu_count() or 1


def core_quota() -> float | None:
    """How many cores' worth of time the control group grants, or None if it sets no limit."""
    try:
        limit, period = (CONTROL_GROUPS / "cpu.max").read_text().split()
    except (OSError, ValueError):
        try:
            limit, period = (
                (CONTROL_GROUPS / "cpu" / f"cpu.cfs_{name}_us").read_text().strip() for name in ("quota", "period")
            )
        except OSError:
            return None
    try:
        return float(limit) / float(period) if float(limit) > 0 else None
    except (ValueError, ZeroDivisionError):
        # The word "max" stands for no limit.
        return None


def allowed_cores() -> int:
    """How many cores this process can keep busy."""
    quota = core_quota()
    return cores_by_affinity() if quota is None else max(1, min(cores_by_affinity(), math.ceil(quota)))


def side_by_side(function: Callable[[Given], Made], items: Iterable[Given]) -> list[Made]:
    """What the function makes of each item, in their order, in as many threads as there are cores."""
    items = list(items)
    if len(items) < 2 or allowed_cores() < 2:
        return [function(item) for item in items]
    with ThreadPoolExecutor(allowed_cores()) as pool:
        return list(pool.map(function, items))


def ahead(function: Callable[[Given], Made], items: Iterable[Given], threads: int) -> Iterator[Made]:
    """What the function makes of each item, in their order, worked out in threads a few items ahead of the reader."""
    if threads == 1:
        yield from map(function, items)
        return
    with ThreadPoolExecutor(threads) as pool:
        waiting: deque = deque()
        try:
            for item in items:
                waiting.append(pool.submit(function, item))
                if len(waiting) > 2 * threads:
                    yield waiting.popleft().result()
            while waiting:
                yield waiting.popleft().result()
        finally:
            # Whoever stops reading need not wait for what nobody asked for.
            for each in waiting:
                each.cancel()
