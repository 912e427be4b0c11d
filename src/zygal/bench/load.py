"""What else the machine did meanwhile, from the operating system's own counters."""

from __future__ import annotations

import time
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from zygal.machine.usage import core_seconds, process_seconds, throttled_seconds


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
        wall, cores, then = max(now["wall"] - before["wall"], 1e-9), now["cores"], before["cores"]
        stolen = others = throttled = None
        if cores is not None and then is not None:
            others = max(0.0, (cores.busy - then.busy - (now["own"] - before["own"])) / wall)
            if cores.stolen is not None and then.stolen is not None:
                stolen = (cores.stolen - then.stolen) / max(cores.total - then.total, 1e-9)
        if now["throttled"] is not None and before["throttled"] is not None:
            throttled = (now["throttled"] - before["throttled"]) / wall
        return Load(stolen, others, throttled)


def _counters(helpers: Sequence[int]) -> dict[str, Any]:
    """All in seconds, of the cores that this process may run on."""
    return {
        "wall": time.perf_counter(),
        "own": time.process_time() + sum(map(process_seconds, helpers)),
        "cores": core_seconds(),
        "throttled": throttled_seconds(),
    }
