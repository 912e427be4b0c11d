"""A run on many workers, simulated on a virtual clock with measured times: how long it takes, and what limits it.

The rules are those of `zygal.cluster.groups` and `run`: groups of blocks by measured speed, so many of them given out
and waiting, results in order, another copy of what is late. The coordinator does one thing at a time; workers take the
next group when they are free.
"""

from __future__ import annotations

import heapq
import math
from collections import deque
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from zygal.bench.arrivals import VirtualClock
from zygal.cluster.groups import GIVEN_OUT_PER_SLOT, WAITING_PER_SLOT, last_size, late_after, next_size
from zygal.prediction.classifier import BATCH

MOST_GROUPS = 200_000
"""Longer runs are simulated up to here, and what is left goes on at the speed of the second half."""
_DRAWS = 4_096


@dataclass(frozen=True)
class Times:
    """What was measured. block: seconds that a worker takes for a block, per group. start: until a worker runs its
    first block. between: that a worker waits between two groups. group, row: what the coordinator takes for a group,
    and for each of its rows."""

    block: Sequence[float]
    start: float
    between: float
    group: float
    row: float


@dataclass(frozen=True)
class Plan:
    """failures: of a worker in an hour. restart: seconds until it works again. late_share: of groups that take
    `late_factor` times as long. storage: images a second that the storage gives to all workers together, None without a
    limit."""

    images: int
    workers: int
    failures: float = 0.0
    restart: float = 30.0
    late_share: float = 0.0
    late_factor: float = 10.0
    storage: float | None = None


@dataclass(frozen=True)
class Simulated:
    """seconds: of the whole run. workers_busy, coordinator_busy: shares of that time. again: groups that ran again
    after a failure. copies: of late groups."""

    seconds: float
    images_per_second: float
    workers_busy: float
    coordinator_busy: float
    groups: int
    again: int
    copies: int


class _Workers:
    """When each worker is free again and when it fails next, as a heap by the former."""

    def __init__(self, times: Times, plan: Plan, rng: np.random.Generator):
        self.times, self.plan, self.rng = times, plan, rng
        self.block = np.asarray(times.block, float)
        if plan.storage:
            # Workers that wait for the storage are slower together.
            wanted = plan.workers * BATCH / self.block.mean()
            self.block = self.block * max(1.0, wanted / plan.storage)
        self.mean = float(self.block.mean())
        self.free = [(times.start, number) for number in range(plan.workers)]
        self.fails = [self._lifetime() for _ in range(plan.workers)]
        self.busy, self.again, self.copies = 0.0, 0, 0
        self._draws: list[float] = []

    def _lifetime(self) -> float:
        return self.rng.exponential(3600 / self.plan.failures) if self.plan.failures else math.inf

    def _draw(self) -> float:
        """Seconds per block of one group, as measured; some groups are late."""
        if not self._draws:
            chosen = self.rng.choice(self.block, _DRAWS)
            self._draws = np.where(
                self.rng.random(_DRAWS) < self.plan.late_share, chosen * self.plan.late_factor, chosen
            ).tolist()
        return self._draws.pop()

    def run(self, given: float, blocks: int) -> float:
        """When a group is finished that is given out at a moment."""
        end = self._end(given, blocks)
        late = given + late_after(self.mean * blocks)
        if end > late and self.plan.workers > 1:
            self.copies += 1
            end = min(end, self._end(late, blocks))
        return end

    def _end(self, given: float, blocks: int) -> float:
        while True:
            free, number = heapq.heappop(self.free)
            began = max(given, free)
            if self.fails[number] <= began:
                # It failed while it had nothing to do.
                back = self.fails[number] + self.plan.restart
                self.fails[number] = back + self._lifetime()
                heapq.heappush(self.free, (max(free, back), number))
                continue
            end = began + self._draw() * blocks
            failure = self.fails[number]
            if end <= failure:
                self.busy += end - began
                heapq.heappush(self.free, (end + self.times.between, number))
                return end
            self.again += 1
            self.fails[number] = failure + self.plan.restart + self._lifetime()
            heapq.heappush(self.free, (failure + self.plan.restart, number))
            given = failure


def simulate(times: Times, plan: Plan, seed: int = 0) -> Simulated:
    """One run. Raises nothing: any plan can be simulated."""
    workers, clock = _Workers(times, plan, np.random.default_rng(seed)), VirtualClock()
    blocks_left, size = math.ceil(plan.images / BATCH), 1
    pending: deque[tuple[float, int]] = deque()
    ends: list[float] = []
    groups = done = 0
    at_work, halfway = 0.0, (0.0, 0)
    total = blocks_left
    while (blocks_left or pending) and groups < MOST_GROUPS:
        while ends and ends[0] <= clock.now():
            heapq.heappop(ends)
        if (
            blocks_left
            and len(ends) < GIVEN_OUT_PER_SLOT * plan.workers
            and len(pending) < WAITING_PER_SLOT * plan.workers
        ):
            taken = last_size(size, blocks_left, plan.workers) if blocks_left <= size * plan.workers else size
            blocks_left -= taken
            groups += 1
            end = workers.run(clock.now(), taken)
            pending.append((end, taken))
            heapq.heappush(ends, end)
            if groups == MOST_GROUPS // 2:
                halfway = clock.now(), done
        elif pending[0][0] <= clock.now():
            _, taken = pending.popleft()
            takes = times.group + times.row * taken * BATCH
            at_work += takes
            clock.wait_until(clock.now() + takes)
            done += taken
            size = next_size(size, workers.mean)
        else:
            clock.wait_until(min(pending[0][0], ends[0]) if ends else pending[0][0])
    seconds = clock.now()
    if done < total:
        # The rest goes on as the second half did.
        seconds += (total - done) * (clock.now() - halfway[0]) / max(1, done - halfway[1])
    share = done / total
    return Simulated(
        seconds,
        plan.images / seconds,
        min(1.0, workers.busy / share / (plan.workers * seconds)),
        min(1.0, at_work / share / seconds),
        round(groups / share),
        round(workers.again / share),
        round(workers.copies / share),
    )


def workers_that_pay(rate_of_one: float, coordinator_rate: float, storage_rate: float | None) -> tuple[int, str]:
    """How many workers there may be before something else is the limit, and what that is. Rates in images a second."""
    by_coordinator = max(1, int(coordinator_rate / rate_of_one))
    by_storage = max(1, int(storage_rate / rate_of_one)) if storage_rate is not None else None
    if by_storage is not None and by_storage < by_coordinator:
        return by_storage, "storage"
    return by_coordinator, "coordinator"
