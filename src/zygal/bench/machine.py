"""The machine that a benchmark ran on."""

from __future__ import annotations

import os
import platform
from dataclasses import dataclass
from pathlib import Path


@dataclass(frozen=True)
class Machine:
    processor: str
    cores_allowed: int
    system: str
    python: str


def describe_machine() -> Machine:
    return Machine(
        _processor(), cores_allowed(), f"{platform.system()} {platform.machine()}", platform.python_version()
    )


def cores_allowed() -> int:
    """The cores that this process may use."""
    if hasattr(os, "sched_getaffinity"):
        return len(os.sched_getaffinity(0))
    return os.cpu_count() or 1


def _processor() -> str:
    try:
        for line in Path("/proc/cpuinfo").read_text().splitlines():
            if line.startswith("model name"):
                return line.partition(":")[2].strip()
    except OSError:
        pass
    return platform.processor() or platform.machine()
