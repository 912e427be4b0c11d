"""The measuring core: interleaved runs of several things. It knows nothing of models.

What is measured stands in cells: the things of one cell are compared with each other, so they are run close together.
A round visits all cells in a random order. In a cell it visits the things forwards and backwards (A B B A), so that
a machine that grows slower all the while is as slow for the first as for the last; that is a block.

Where the memory of a thing happens to lie makes it slower or faster for as long as it lives. So all instances are
created again from time to time; what is measured between is an epoch.
"""

from __future__ import annotations

import math
import random
import time
from collections.abc import Callable, Hashable, Mapping
from dataclasses import dataclass, field

import numpy as np

from zygal.statistics.quantiles import Median, median_of

Run = Callable[[], object]
"""One run. What it returns does not matter, unless it is `Elapsed`."""
Progress = Callable[[float], None]
Key = tuple[Hashable, Hashable]
Cells = Mapping[Hashable, Mapping[Hashable, Run]]


class Elapsed(float):
    """The seconds that a run took, where it was timed elsewhere: in the process that ran it."""


# One visit: long enough to leave the caches of the others behind, short enough to come back often.
VISIT_SECONDS = 0.01
LONGER_VISIT_SECONDS = 0.05
UNRECORDED_SECONDS = 0.003
SETTLED_SECONDS = 0.1
COLD_MATTERS_SECONDS = 0.005
FEWEST_ROUNDS = 4
STEADY_WITHIN = 0.1
WARM_UP_SECONDS = 2.0
EPOCHS = 16
FEWEST_EPOCHS = 7
MOST_FOR_MAKING = 0.25
"""The share of the time that creating instances may take, if enough epochs remain."""


@dataclass(frozen=True)
class Effort:
    """How long to measure: for `seconds` in all, or until `enough` says of the readings that they will do, if that is
    sooner."""

    seconds: float
    enough: Callable[[Mapping[Key, Readings]], bool] | None = None


@dataclass
class Readings:
    """All readings of one thing. Nothing is dropped.

    visits: the seconds of each run, visit by visit. blocks: the number of the block of each visit. epochs: of each
    block. wall_seconds, cpu_seconds: of all recorded visits, of the whole process. steady: whether it was before it was
    measured.
    """

    visits: list[list[float]] = field(default_factory=list)
    blocks: list[int] = field(default_factory=list)
    epochs: dict[int, int] = field(default_factory=dict)
    wall_seconds: float = 0.0
    cpu_seconds: float = 0.0
    warm_up_runs: int = 0
    steady: bool = True

    def seconds(self) -> np.ndarray:
        """Of every run, in their order."""
        return np.array([each for visit in self.visits for each in visit])

    def cpu_seconds_per_run(self) -> float:
        """Processor seconds of one run, on average."""
        return self.cpu_seconds / sum(map(len, self.visits))

    def in_blocks(self) -> dict[int, list[list[float]]]:
        """The visits of each block."""
        visits: dict[int, list[list[float]]] = {}
        for block, visit in zip(self.blocks, self.visits):
            visits.setdefault(block, []).append(visit)
        return visits

    def median(self) -> Median:
        """Seconds a run."""
        blocks = self.in_blocks()
        seconds = [[each for visit in visits for each in visit] for visits in blocks.values()]
        return median_of(seconds, [self.epochs[block] for block in blocks])


@dataclass(frozen=True)
class Measurement:
    """readings: by (cell, name). interruption: what ended it before its time, if the user did."""

    readings: dict[Key, Readings]
    seconds: float
    rounds: int
    interruption: KeyboardInterrupt | None = None

    @property
    def interrupted(self) -> bool:
        """Whether the user ended it early."""
        return self.interruption is not None


def paired(first: Readings, second: Readings) -> tuple[list[float], list[float], list[int]]:
    """One figure of each for every block that both were visited in, and the block's epoch, for `statistics.ratio_of`.

    The figure of a visit is the first quartile of its runs: what else a machine does makes runs longer, never shorter,
    so the quicker ones say more of what is run. That of a block is the mean of its visits', so that it does not matter
    how far they are apart.
    """
    left, right = first.in_blocks(), second.in_blocks()
    both = sorted(left.keys() & right.keys())
    figures = ([_figure(side[block]) for block in both] for side in (left, right))
    return *figures, [first.epochs[block] for block in both]


def _figure(visits: list[list[float]]) -> float:
    """The geometric mean of the visits' first quartiles."""
    return float(np.exp(np.mean([np.log(np.percentile(visit, 25)) for visit in visits])))


def measure(
    cells: Cells | Callable[[], Cells], effort: Effort, progress: Progress = lambda part: None, seed: int = 0
) -> Measurement:
    """Runs each thing of each cell again and again; see the head of this file.

    cells: by cell and name what is run, or a function that creates all of it again. Each is first run until its
    readings are steady. A visit begins with runs that are not recorded, so that nothing pays for what was run before
    it; not so where one run takes long compared with that. There are at least 4 rounds, however long they take. An
    interrupt ends the measuring early if anything was measured.
    """
    return _Measuring(cells, effort, progress, seed).run()


def measure_whole(cells: Cells | Callable[[], Cells], effort: Effort) -> Measurement:
    """The same for what is only a part of the work: an interrupt ends all of it."""
    found = measure(cells, effort)
    if found.interruption is not None:
        raise found.interruption
    return found


class _Measuring:
    """A measurement while it is made."""

    def __init__(self, cells: Cells | Callable[[], Cells], effort: Effort, progress: Progress, seed: int):
        self.make = cells if callable(cells) else None
        self.cells: Cells = {} if callable(cells) else cells
        self.effort, self.progress, self.rng = effort, progress, random.Random(seed)
        self.readings: dict[Key, Readings] = {}
        self.block, self.epoch, self.rounds = 0, 0, 0
        self.last: Run | None = None
        self.threaded = True
        self.started = self.epoch_ends = math.inf

    def run(self) -> Measurement:
        interruption = None
        try:
            self._begin_epoch()
            self.started = checked = time.perf_counter()
            while self.rounds < FEWEST_ROUNDS or time.perf_counter() - self.started < self.effort.seconds:
                if time.perf_counter() > self.epoch_ends:
                    self._begin_epoch()
                self._round()
                now = time.perf_counter()
                # Judging costs time of its own, so it is done when a tenth more is known.
                judged = self.effort.enough is not None and self.rounds >= FEWEST_ROUNDS
                if judged and now - self.started > 1.1 * (checked - self.started):
                    checked = now
                    if self.effort.enough(self.readings):
                        break
        except KeyboardInterrupt as end:
            interruption = end
            self.readings = {key: each for key, each in self.readings.items() if each.visits}
            if not self.readings:
                raise
        seconds = time.perf_counter() - min(self.started, time.perf_counter())
        return Measurement(self.readings, seconds, self.rounds, interruption)

    def _begin_epoch(self) -> None:
        """Creates all instances again, if possible, and warms them up."""
        began = time.perf_counter()
        if self.make is not None:
            # The old ones go first: there may not be memory for both.
            self.cells, self.last = {}, None
            self.cells = self.make()
            self.epoch += 1
        for cell, runs in self.cells.items():
            for name, run in runs.items():
                readings = self.readings.setdefault((cell, name), Readings())
                if not readings.visits:
                    readings.warm_up_runs, readings.steady = warm_up(run)
                else:
                    run()
        now = time.perf_counter()
        if self.make is not None:
            # An interval needs some epochs, whatever it costs to create instances.
            longest = self.effort.seconds / FEWEST_EPOCHS
            self.epoch_ends = now + max(self.effort.seconds / EPOCHS, min((now - began) / MOST_FOR_MAKING, longest))

    def _round(self) -> None:
        order = list(self.cells)
        self.rng.shuffle(order)
        for cell in order:
            names = list(self.cells[cell])
            # Each block begins alike, whether or not the one before ended with the same thing.
            self.last = None
            for name in (*names, *reversed(names)):
                run, readings = self.cells[cell][name], self.readings[cell, name]
                changed = run is not self.last
                readings.epochs[self.block] = self.epoch
                self.threaded = _visit(run, readings, self.block, changed, changed and self.threaded)
                self.last = run
            self.block += 1
            self.progress(min(1.0, max((time.perf_counter() - self.started) / self.effort.seconds, 0.0)))
        self.rounds += 1


def warm_up(run: Run, most_seconds: float = WARM_UP_SECONDS) -> tuple[int, bool]:
    """Runs until two groups of runs in a row take the same time within a tenth: the number of runs, and whether they
    did.

    A group is three runs, or fewer that take long.
    """
    started, runs, before = time.perf_counter(), 0, math.inf
    while True:
        group_started, size = time.perf_counter(), 0
        while size < 3 and time.perf_counter() - group_started < SETTLED_SECONDS:
            run()
            size += 1
        runs += size
        now = time.perf_counter()
        took = (now - group_started) / size
        if abs(took - before) <= STEADY_WITHIN * before < math.inf:
            return runs, True
        if now - started > most_seconds:
            return runs, False
        before = took


def _visit(run: Run, readings: Readings, block: int, changed: bool, rested: bool) -> bool:
    """Runs for a while and keeps the readings; whether other threads than this one worked as well.

    changed: something else ran before, so some runs come first that are not recorded, unless they would take long.
    rested: waits before until the threads of what ran have come to rest.
    """
    if rested:
        _wait_for_rest()
    if changed and not (readings.visits and readings.visits[0][0] > COLD_MATTERS_SECONDS):
        settled = time.perf_counter() + UNRECORDED_SECONDS
        run()
        while time.perf_counter() < settled:
            run()
    seconds = []
    cpu_started, started = time.process_time(), time.perf_counter()
    before = started
    # Where a visit began with a rest, more is to be gained from it.
    end = started + (LONGER_VISIT_SECONDS if rested else VISIT_SECONDS)
    elsewhere = False
    while before < end or not seconds:
        result = run()
        now = time.perf_counter()
        elsewhere = isinstance(result, Elapsed)
        seconds.append(float(result) if elsewhere else now - before)
        before = now
    cpu = time.process_time() - cpu_started
    readings.cpu_seconds += cpu
    readings.wall_seconds += before - started
    readings.visits.append(seconds)
    readings.blocks.append(block)
    # What ran in another process may have threads that have to come to rest too.
    return elsewhere or cpu > 1.1 * (before - started)


def _wait_for_rest(most_seconds: float = 0.25, step_seconds: float = 0.008) -> None:
    """Sleeps until this process takes hardly any processor time.

    The threads of a pool go on asking for work for some time after a run (with ONNX Runtime about 50 ms), and would
    take a core away from what is run next.
    """
    started = time.perf_counter()
    while time.perf_counter() - started < most_seconds:
        cpu, wall = time.process_time(), time.perf_counter()
        time.sleep(step_seconds)
        if time.process_time() - cpu < 0.25 * (time.perf_counter() - wall):
            return
