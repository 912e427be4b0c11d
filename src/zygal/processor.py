"""What this process may use of the machine."""

from __future__ import annotations

import math
import os
from pathlib import Path

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
