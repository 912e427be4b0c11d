"""What this process may use of the machine."""

from __future__ import annotations

import os


def allowed_cores() -> int:
    """How many processor cores this process may run on."""
    if hasattr(os, "sched_getaffinity"):
        return len(os.sched_getaffinity(0))
    return os.cpu_count() or 1
