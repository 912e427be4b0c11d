"""What this process may use of the machine."""

from __future__ import annotations

import math
import os
import platform
from dataclasses import dataclass
from pathlib import Path

CONTROL_GROUPS = Path("/sys/fs/cgroup")
PROCESSORS = Path("/proc/cpuinfo")
_EIGHT_BIT = {
    "amx_int8": "AMX",
    "avx512_vnni": "AVX-512 VNNI",
    "avx_vnni": "AVX VNNI",
    "i8mm": "8-bit matrix product (I8MM)",
    "asimddp": "dot product",
}
"""Instructions that multiply numbers of 8 bits and add the products in 32, by the names that the kernel gives them."""


def allowed_core_numbers() -> set[int]:
    """The processor cores that this process may be put on."""
    if hasattr(os, "sched_getaffinity"):
        return set(os.sched_getaffinity(0))
    return set(range(os.cpu_count() or 1))


def cores_by_affinity() -> int:
    """How many processor cores this process may be put on."""
    return len(allowed_core_numbers())


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


@dataclass(frozen=True)
class Multiplication:
    """How this processor multiplies numbers of 8 bits. architecture: "x86", "arm" or another's own name. instructions:
    those that add the products in 32 bits, in words; empty if it has none."""

    architecture: str
    instructions: tuple[str, ...]

    @property
    def pairs_saturate(self) -> bool:
        """Whether sums of two products are held in 16 bits, as x86 without such instructions does."""
        return self.architecture == "x86" and not self.instructions


def multiplication() -> Multiplication:
    """How this processor adds 8-bit products."""
    machine = platform.machine().lower()
    architecture = (
        "x86"
        if machine in ("x86_64", "amd64", "i386", "i686")
        else "arm"
        if machine.startswith(("arm", "aarch64"))
        else machine
    )
    flags = (cpuinfo("flags") or cpuinfo("Features") or "").split()
    return Multiplication(architecture, tuple(words for flag, words in _EIGHT_BIT.items() if flag in flags))


def cpuinfo(field: str) -> str | None:
    """A field of the first processor; None where it cannot be read."""
    try:
        lines = PROCESSORS.read_text().splitlines()
    except OSError:
        return None
    return next(
        (value.strip() for name, _, value in (line.partition(":") for line in lines) if name.strip() == field), None
    )
