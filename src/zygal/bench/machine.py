"""The machine that a benchmark ran on, as far as it can be read."""

from __future__ import annotations

import platform
from dataclasses import dataclass
from pathlib import Path

from zygal.machine.processor import core_quota, cores_by_affinity, cpuinfo
from zygal.machine.usage import memory_granted_bytes

_PROCESSORS = Path("/sys/devices/system/cpu")
# Those that kernels for inference are written for.
_INSTRUCTION_SETS = [
    "sse4_2",
    "avx",
    "f16c",
    "fma",
    "avx2",
    "avx_vnni",
    "avx512f",
    "avx512bw",
    "avx512vl",
    "avx512_vnni",
    "avx512_bf16",
    "avx512_fp16",
    "amx_bf16",
    "amx_int8",
    "asimd",
    "asimdhp",
    "asimddp",
    "i8mm",
    "bf16",
    "sve",
    "sve2",
    "vsx",
    "rvv",
]


@dataclass(frozen=True)
class Machine:
    """core_quota: cores' worth of time that the control group grants, None without a limit. memory_bytes: the
    machine's, or the control group's where that is less. frequency_policy: None where it cannot be read."""

    processor: str
    cores_by_affinity: int
    core_quota: float | None
    instruction_sets: tuple[str, ...]
    frequency_policy: str | None
    memory_bytes: int | None
    system: str
    python: str


def describe_machine() -> Machine:
    """This machine, as far as it is known."""
    return Machine(
        processor=cpuinfo("model name") or platform.processor() or platform.machine(),
        cores_by_affinity=cores_by_affinity(),
        core_quota=core_quota(),
        instruction_sets=instruction_sets(),
        frequency_policy=_frequency_policy(),
        memory_bytes=memory_granted_bytes(),
        system=f"{platform.system()} {platform.machine()}",
        python=platform.python_version(),
    )


def instruction_sets() -> tuple[str, ...]:
    """The instruction sets of this processor that matter for inference."""
    flags = (cpuinfo("flags") or cpuinfo("Features") or "").split()
    return tuple(name for name in _INSTRUCTION_SETS if name in flags)


def _frequency_policy() -> str | None:
    """The governor, and whether the processor may go beyond its base frequency."""
    governor = _text(_PROCESSORS / "cpu0/cpufreq/scaling_governor")
    fixed, boost = _text(_PROCESSORS / "intel_pstate/no_turbo"), _text(_PROCESSORS / "cpufreq/boost")
    turbo = {"0": "turbo on", "1": "turbo off"}.get(fixed or "") or {"1": "turbo on", "0": "turbo off"}.get(boost or "")
    return ", ".join(part for part in (governor, turbo) if part) or None


def _text(path: Path) -> str | None:
    try:
        return path.read_text().strip()
    except OSError:
        return None
