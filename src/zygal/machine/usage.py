"""What this machine has, and what of it is in use: memory, and the time of its cores."""

from __future__ import annotations

import sys
from dataclasses import dataclass
from pathlib import Path

import psutil

from zygal.machine.processor import CONTROL_GROUPS, allowed_core_numbers

_ONLINE = Path("/sys/devices/system/cpu/online")


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
    machine gave to others; None where the system does not say."""

    busy: float
    stolen: float | None
    total: float


def core_seconds() -> CoreSeconds | None:
    """The times of the cores that this process may run on; None where they cannot be read."""
    allowed = allowed_core_numbers()
    try:
        every = psutil.cpu_times(percpu=True)
    except (OSError, psutil.Error):
        return None
    cores = [times for number, times in zip(_online_cores(len(every)), every) if number in allowed]
    stolen = sum(times.steal for times in cores) if cores and hasattr(cores[0], "steal") else None
    waiting = sum(times.idle + getattr(times, "iowait", 0.0) for times in cores)
    # What guests of this machine take is in the user's time already.
    names = ("user", "nice", "system", "irq", "softirq", "interrupt", "dpc")
    busy = sum(getattr(times, name, 0.0) for times in cores for name in names)
    return CoreSeconds(busy, stolen, busy + waiting + (stolen or 0.0))


def _online_cores(count: int) -> list[int]:
    """The numbers of the cores that are switched on, which are those whose times the system gives."""
    try:
        parts = [part.split("-") for part in _ONLINE.read_text().strip().split(",")]
        found = [number for part in parts for number in range(int(part[0]), int(part[-1]) + 1)]
    except (OSError, ValueError):
        found = []
    return found if len(found) == count else list(range(count))


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
