"""Open-loop serving: images arrive when they like, wait, and are served in batches.

A loop that runs one batch after the other never sees a queue. Callers do not wait for each other: at an offered rate
they arrive at random, and what they see is waiting and service together.
"""

from __future__ import annotations

import math
import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Protocol

import numpy as np

from zygal.errors import BenchError
from zygal.statistics.quantiles import quantile_of

SPUN_SECONDS = 0.0006
"""What is waited for by asking the clock: a sleep ends late by about as much."""


class Clock(Protocol):
    """What tells the time, and waits."""

    def now(self) -> float:
        """Seconds."""
        ...

    def wait_until(self, moment: float) -> None:
        """Returns at a moment, or at once if it is over."""


class RealClock:
    """The clock of this machine."""

    def now(self) -> float:
        """See `Clock.now`."""
        return time.perf_counter()

    def wait_until(self, moment: float) -> None:
        """See `Clock.wait_until`."""
        while (left := moment - time.perf_counter()) > 0:
            if left > SPUN_SECONDS:
                time.sleep(left - SPUN_SECONDS)


class VirtualClock:
    """Time passes when something says so."""

    def __init__(self):
        self.moment = 0.0

    def now(self) -> float:
        """See `Clock.now`."""
        return self.moment

    def wait_until(self, moment: float) -> None:
        """See `Clock.wait_until`."""
        self.moment = max(self.moment, moment)


@dataclass(frozen=True)
class Served:
    """rate: arrivals per second. latencies: seconds from an image's arrival to the end of its batch, in the order of
    arrival. batches: their sizes. service_seconds: how long each took. seconds: from the first arrival to the end."""

    rate: float
    latencies: np.ndarray
    batches: tuple[int, ...]
    service_seconds: np.ndarray
    seconds: float

    @property
    def busy(self) -> float:
        """The part of the time in which a batch was served."""
        return float(self.service_seconds.sum()) / self.seconds

    @property
    def mean_batch(self) -> float:
        """Images of a batch, on average."""
        return sum(self.batches) / len(self.batches)

    @property
    def falling_behind(self) -> bool:
        """Whether the queue grew all the while, so that latencies say nothing but how long the run was."""
        return self.busy > 0.99 and float(np.median(self.latencies[-len(self.latencies) // 4 :])) > 3 * float(
            np.median(self.latencies[: len(self.latencies) // 4])
        )

    def quantile(self, part: float) -> float | None:
        """The latency in seconds that a part of the images keeps; None where too few carry it."""
        return quantile_of(self.latencies, part)


def poisson_arrivals(rate: float, count: int, seed: int = 0) -> np.ndarray:
    """Moments in seconds, from 0 on: those of a Poisson process of that rate in the time in which it is to bring
    `count`.

    Of so many the moments are independent and even over that time (Ross, Introduction to Probability Models, section
    5.3); drawn like this, what is offered is what was asked for, whatever the seed.
    """
    return np.sort(np.random.default_rng(seed).uniform(0, count / rate, count))


def serve_arrivals(
    arrivals: np.ndarray, serve: Callable[[int], None], max_batch: int, max_wait_seconds: float, clock: Clock
) -> Served:
    """Serves all arrivals by one server, and keeps what each one saw.

    A batch is begun when `most` images wait or when the first of them has waited for `patience_seconds`, whichever is
    sooner; `serve(count)` returns when it is done. Latencies count from the moments in `arrivals`, not from when the
    server got to know of them, so that a late server does not flatter itself.
    """
    count, index = len(arrivals), 0
    latencies, batches, services = np.empty(count), [], []
    start = clock.now()
    due = arrivals + start
    while index < count:
        # That no more will come is not known to a server.
        full = due[index + max_batch - 1] if index + max_batch <= count else math.inf
        clock.wait_until(min(full, due[index] + max_wait_seconds))
        began = clock.now()
        ready = int(np.searchsorted(due[index : index + max_batch], began, side="right"))
        # A clock that ends its wait a little early has the first one there all the same.
        size = max(ready, 1)
        serve(size)
        ended = clock.now()
        latencies[index : index + size] = ended - due[index : index + size]
        batches.append(size)
        services.append(ended - began)
        index += size
    rate = (count - 1) / float(arrivals[-1] - arrivals[0]) if count > 1 else 1 / max(float(arrivals[-1]), 1e-9)
    return Served(rate, latencies, tuple(batches), np.array(services), clock.now() - start)


class ServiceTimes:
    """Service times of any batch size, drawn from what was measured at some: quantiles are interpolated between
    sizes."""

    def __init__(self, readings: Mapping[int, Sequence[float]], seed: int = 0):
        self._sizes = sorted(readings)
        self._quantiles = np.array([np.percentile(readings[size], np.linspace(0, 100, 201)) for size in self._sizes])
        self._chance = np.random.default_rng(seed)

    def draw(self, size: int) -> float:
        """A time in seconds for a batch, drawn from those that were measured."""
        part = self._chance.random() * 200
        below = int(part)
        column = self._quantiles[:, below] * (below + 1 - part) + self._quantiles[:, below + 1] * (part - below)
        return float(np.interp(size, self._sizes, column))


def simulate(rate: float, times: ServiceTimes, max_batch: int, max_wait_seconds: float, count: int = 20_000) -> Served:
    """What callers would see at a rate, on a virtual clock."""
    clock = VirtualClock()

    def serve(size: int) -> None:
        clock.moment += times.draw(size)

    return serve_arrivals(poisson_arrivals(rate, count), serve, max_batch, max_wait_seconds, clock)


def highest_rate(
    readings: Mapping[int, Sequence[float]], max_batch: int, max_wait_seconds: float, deadline_seconds: float
) -> float | None:
    """The highest rate at which 99 of 100 callers are served in time, in simulation; None if no rate is low enough.

    Found by halving between none and what the largest batches can serve, with the same arrivals and draws at each try.
    """

    def passes(rate: float) -> bool:
        served = simulate(rate, ServiceTimes(readings), max_batch, max_wait_seconds)
        return served.quantile(0.99) <= deadline_seconds and served.busy < 0.99

    sizes = [size for size in readings if size <= max_batch]
    if not sizes:
        raise BenchError(
            f"batches of up to {max_batch} are to be gathered, but the smallest that was measured is {min(readings)}; "
            f"add {max_batch} to --batches."
        )
    largest = max(sizes)
    high = largest / float(np.median(readings[largest]))
    low = high / 1000
    if not passes(low):
        return None
    for _ in range(12):
        middle = (low * high) ** 0.5
        low, high = (middle, high) if passes(middle) else (low, middle)
    return low
