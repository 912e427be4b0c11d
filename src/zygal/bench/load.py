"""What else the machine did meanwhile, from the operating system's own counters."""

from __future__ import annotations

import os
import time
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from zygal.machine.processor import CONTROL_GROUPS


@dataclass(frozen=True)
class Load:
    """stolen: the part of the allowed cores' time that the host of a virtual machine gave to others. other_cores: how
    many cores' worth of time other programs took of the allowed cores. throttled: the part of the time in which the
    control group held this one back. None where the system does not say."""

    stolen: float | None
    other_cores: float | None
    throttled: float | None

    @property
    def quiet(self) -> bool:
        """Whether nothing else took a notable part of the processor."""
        return not ((self.stolen or 0) > 0.01 or (self.other_cores or 0) > 0.1 or (self.throttled or 0) > 0.01)


class LoadWatch:
    """Counts from when it is made until `load` is asked. helpers: the numbers of processes that work for this one."""

    def __init__(self, helpers: Sequence[int] = ()):
        self._helpers = tuple(helpers)
        self._began = _counters(self._helpers)

    def load(self) -> Load:
        """What else ran since the watch began."""
        before, now = self._began, _counters(self._helpers)
        wall = max(now["wall"] - before["wall"], 1e-9)
        stolen = others = throttled = None
        if now["total"] is not None and before["total"] is not None:
            total = max(now["total"] - before["total"], 1e-9)
            stolen = (now["stolen"] - before["stolen"]) / total
            others = max(0.0, (now["busy"] - before["busy"] - (now["own"] - before["own"])) / wall)
        if now["throttled"] is not None and before["throttled"] is not None:
            throttled = (now["throttled"] - before["throttled"]) / wall
        return Load(stolen, others, throttled)


def _counters(helpers: Sequence[int]) -> dict[str, float | None]:
    """All in seconds, of the cores that this process may run on."""
    found: dict[str, float | None] = {
        "wall": time.perf_counter(),
        "own": time.process_time() + sum(map(_process_seconds, helpers)),
        "total": None,
        "throttled": _throttled_seconds(),
    }
    try:
        lines = Path("/proc/stat").read_text().splitlines()
        ticks = os.sysconf("SC_CLK_TCK")
        allowed = {f"cpu{core}" for core in os.sched_getaffinity(0)}
        rows = [[int(each) for each in line.split()[1:9]] for line in lines if line.split()[0] in allowed]
        user, nice, system, idle, waiting, interrupts, soft, stolen = (sum(column) / ticks for column in zip(*rows))
    except (OSError, ValueError, AttributeError):
        return found
    busy = user + nice + system + interrupts + soft
    return found | {"busy": busy, "stolen": stolen, "total": busy + idle + waiting + stolen}


def _process_seconds(process: int) -> float:
    """The processor time that another process has taken; 0 where it cannot be read."""
    try:
        # The name of the program, in brackets, may hold anything.
        numbers = Path(f"/proc/{process}/stat").read_text().rpartition(")")[2].split()
        return (int(numbers[11]) + int(numbers[12])) / os.sysconf("SC_CLK_TCK")
    except (OSError, ValueError, IndexError, AttributeError):
        return 0.0


def _throttled_seconds() -> float | None:
    for name, key, unit in (("cpu.stat", "throttled_usec", 1e-6), ("cpu/cpu.stat", "throttled_time", 1e-9)):
        try:
            for line in (CONTROL_GROUPS / name).read_text().splitlines():
                if line.startswith(key):
                    return int(line.split()[1]) * unit
        except (OSError, ValueError, IndexError):
            continue
    return None
