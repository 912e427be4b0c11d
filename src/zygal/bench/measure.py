"""The measuring core: interleaved runs of several settings. It knows nothing of models."""

from __future__ import annotations

import time
from collections.abc import Callable, Hashable
from dataclasses import dataclass, field

Run = Callable[[], object]
Progress = Callable[[float], None]

# One visit to a setting: long enough to leave the caches of the others behind, short enough to come back often.
VISIT_SECONDS = 0.06
UNRECORDED_RUNS = 2
FEWEST_VISITS = 4
STEADY_WITHIN = 0.1


@dataclass
class Readings:
    """All readings of one setting. Nothing is dropped.

    wall_seconds: one number a run. visits: for each visit (runs, wall seconds, CPU seconds of the
    whole process).
    """

    wall_seconds: list[float] = field(default_factory=list)
    visits: list[tuple[int, float, float]] = field(default_factory=list)

    def cpu_seconds_a_run(self) -> float:
        runs = sum(visit[0] for visit in self.visits)
        return sum(visit[2] for visit in self.visits) / runs


def measure(
    settings: dict[Hashable, Run], seconds: float, progress: Progress = lambda part: None
) -> dict[Hashable, Readings]:
    """Runs each setting again and again for about `seconds` in all, forwards and backwards in turn (A B B A).

    Each setting is first run until its readings are steady. Every visit begins with runs that are
    not recorded, so that no setting pays for the one before it. Each is visited at least 4 times,
    however long that takes.
    """
    for run in settings.values():
        warm_up(run)
    readings = {name: Readings() for name in settings}
    order = list(settings)
    started = time.perf_counter()
    rounds = 0
    while rounds < FEWEST_VISITS or time.perf_counter() - started < seconds:
        for name in order:
            _visit(settings[name], readings[name])
            progress(min(1.0, max((time.perf_counter() - started) / seconds, 0)))
        order.reverse()
        rounds += 1
    return readings


def warm_up(run: Run, most_seconds: float = 2.0) -> int:
    """Runs until two groups of runs in a row take the same time within a tenth; returns the number of runs."""
    started, runs, before = time.perf_counter(), 0, None
    while True:
        group_started = time.perf_counter()
        for _ in range(3):
            run()
        runs += 3
        took = time.perf_counter() - group_started
        if before is not None and abs(took - before) <= STEADY_WITHIN * before:
            return runs
        if time.perf_counter() - started > most_seconds:
            return runs
        before = took


def _visit(run: Run, readings: Readings) -> None:
    for _ in range(UNRECORDED_RUNS):
        run()
    first = len(readings.wall_seconds)
    cpu_started, started = time.process_time(), time.perf_counter()
    before = started
    while True:
        run()
        now = time.perf_counter()
        readings.wall_seconds.append(now - before)
        before = now
        if now - started >= VISIT_SECONDS:
            break
    cpu = time.process_time() - cpu_started
    readings.visits.append((len(readings.wall_seconds) - first, now - started, cpu))
