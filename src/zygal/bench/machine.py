"""The machine that a benchmark ran on."""

from __future__ import annotations

import platform
from dataclasses import dataclass
from pathlib import Path

from zygal.processor import allowed_cores


@dataclass(frozen=True)
class Machine:
    processor: str
    cores_allowed: int
    system: str
    python: str


def describe_machine() -> Machine:
    return Machine(
        _processor(), allowed_cores(), f"{platform.system()} {platform.machine()}", platform.python_version()
    )


def _processor() -> str:
    try:
        for line in Path("/proc/cpuinfo").read_text().splitlines():
            if line.startswith("model name"):
                return line.partition(":")[2].strip()
    except OSError:
        pass
    return platform.processor() or platform.machine()
