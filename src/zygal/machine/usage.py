"""What this machine has, and what of it is in use: memory, and the time of its cores."""

from __future__ import annotations

import sys
from dataclasses import dataclass
from pathlib import Path

import psutil

from zygal.machine.processor import CONTROL_GROUPS, allowed_core_numbers


def memory_granted_bytes() -> int:
    """The machine's memory, or the control group's limit where that is less."""
    limit = _group("memory.max", "memory/memory.limit_in_bytes")
    return min(filter(None, (psutil.virtual_memory().total, limit)))


def memory_free_bytes() -> int:
    """What can still be taken without swapping."""
    memory = psutil.virtual_memory()
    limit = _group("memory.max", "memory/memory.limit_in_bytes")
    used = _group("memory.current", "memory/memory.usage_in_bytes")
    if limit is not None and used is not None and limit < memory.total:
        return min(memory.available, max(limit - used, 0))
    return memory.available


@dataclass(frozen=True)
class CoreSeconds:
    """Of the cores that this process may run on, since the machine was started. stolen: what the host of a virtual
    machine gave to others; 0 where the system does not say."""

    busy: float
    stolen: float
    total: float


def core_seconds() -> CoreSeconds:
    """The times of the cores that this process may run on."""
    allowed = allowed_core_numbers()
    cores = [times for number, times in enumerate(psutil.cpu_times(percpu=True)) if number in allowed]
    stolen = sum(getattr(times, "steal", 0.0) for times in cores)
    waiting = sum(times.idle + getattr(times, "iowait", 0.0) for times in cores)
    # What guests of this machine take is in the user's time already.
    names = ("user", "nice", "system", "irq", "softirq", "interrupt", "dpc")
    busy = sum(getattr(times, name, 0.0) for times in cores for name in names)
    return CoreSeconds(busy, stolen, busy + waiting + stolen)


def process_seconds(number: int) -> float:
    """The processor time that another process has taken; 0 where it cannot be read."""
    try:
        times = psutil.Process(number).cpu_times()
    except psutil.Error:
        return 0.0
    return times.user + times.system


def throttled_seconds() -> float | None:
    """For how long the control group held this process back; None without one."""
    for name, key, unit in (("cpu.stat", "throttled_usec", 1e-6), ("cpu/cpu.stat", "throttled_time", 1e-9)):
        try:
            for line in (CONTROL_GROUPS / name).read_text().splitlines():
                if line.startswith(key):
                    return int(line.split()[1]) * unit
        except (OSError, ValueError, IndexError):
            continue
    return None


def peak_bytes() -> int:
    """The largest resident size that this process has had.

    On Linux the kernel's counter in /proc is read, which psutil does not give: the one of getrusage begins with the
    size of the process that started this one.
    """
    try:
        for line in Path("/proc/self/status").read_text().splitlines():
            if line.startswith("VmHWM:"):
                return int(line.split()[1]) * 1024
    except OSError:
        pass
    memory = psutil.Process().memory_info()
    if hasattr(memory, "peak_wset"):
        return memory.peak_wset
    try:
        import resource
    except ImportError:
        return memory.rss
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    return peak if sys.platform == "darwin" else peak * 1024


def _group(*names: str) -> int | None:
    """A control group's number, under its newer or its older name; None where there is none or no limit."""
    for name in names:
        try:
            return int((CONTROL_GROUPS / name).read_text())
        except (OSError, ValueError):
            continue
    return None
