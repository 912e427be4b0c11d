"""Memory: what there is, and what a batch will need, foreseen from what smaller ones needed."""

from __future__ import annotations

import os
from collections.abc import Mapping
from pathlib import Path

from zygal.machine.processor import CONTROL_GROUPS

# What the operating system and other programs are left with.
KEPT_FREE = 0.1


def memory_granted_bytes() -> int | None:
    """The machine's memory, or the control group's limit where that is less."""
    sizes = [size for size in (_meminfo("MemTotal"), _group("memory.max", "memory/memory.limit_in_bytes")) if size]
    return min(sizes) if sizes else None


def memory_free_bytes() -> int | None:
    """What can still be taken without swapping."""
    sizes = []
    if (available := _meminfo("MemAvailable")) is not None:
        sizes.append(available)
    limit = _group("memory.max", "memory/memory.limit_in_bytes")
    used = _group("memory.current", "memory/memory.usage_in_bytes")
    total = _meminfo("MemTotal")
    if limit is not None and used is not None and (total is None or limit < total):
        sizes.append(max(limit - used, 0))
    if not sizes and hasattr(os, "sysconf") and "SC_AVPHYS_PAGES" in os.sysconf_names:
        sizes.append(os.sysconf("SC_AVPHYS_PAGES") * os.sysconf("SC_PAGE_SIZE"))
    return min(sizes) if sizes else None


def foreseen_bytes(peaks: Mapping[int, int], batch: int, image_bytes: int) -> int:
    """The peak memory at a batch size, from those measured at smaller ones: a straight line through the two largest.

    image_bytes: what an image's tensor itself takes, the least that another image costs.
    """
    known = sorted(peaks)
    slope = float(image_bytes)
    if len(known) > 1:
        slope = max(slope, (peaks[known[-1]] - peaks[known[-2]]) / (known[-1] - known[-2]))
    return int(peaks[known[-1]] + slope * (batch - known[-1]))


def _meminfo(field: str) -> int | None:
    try:
        for line in Path("/proc/meminfo").read_text().splitlines():
            if line.startswith(f"{field}:"):
                return int(line.split()[1]) * 1024
    except (OSError, ValueError, IndexError):
        pass
    return None


def _group(*names: str) -> int | None:
    """A control group's number, under its newer or its older name; None where there is none or no limit."""
    for name in names:
        try:
            return int((CONTROL_GROUPS / name).read_text())
        except (OSError, ValueError):
            continue
    return None
