"""An artifact that serves random arrivals, on the real clock, and the highest arrival rate that meets a deadline."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from zygal.bench.arrivals import RealClock, Served, highest_rate, poisson_arrivals, serve_arrivals
from zygal.bench.measure import warm_up
from zygal.bench.result import READINGS_FOR_P99
from zygal.bench.settings import Setting
from zygal.bench.subjects import ArtifactSubject
from zygal.errors import BenchError

LONGEST_SECONDS = 60.0
STEP_DOWN = 0.85
MOST_TRIES = 6


@dataclass(frozen=True)
class Batching:
    """How waiting images are batched: at most `max_batch`, the first of them waiting at most `max_wait_seconds`."""

    max_batch: int
    max_wait_seconds: float


@dataclass(frozen=True)
class Serving:
    """runs: one for each arrival rate. simulated_rate: the highest rate that meets the deadline in simulation with the
    measured service times. sustained: the run with the highest rate that met it on the real clock, or None."""

    setting: Setting
    batching: Batching
    runs: tuple[Served, ...]
    deadline_seconds: float | None
    simulated_rate: float | None
    sustained: Served | None


def serve_rates(
    subject: ArtifactSubject,
    setting: Setting,
    rates: Sequence[float],
    batching: Batching,
    seconds: float,
    deadline_seconds: float | None = None,
    readings: Mapping[int, Sequence[float]] | None = None,
    progress: Callable[[float], None] = lambda part: None,
) -> Serving:
    """Serves Poisson arrivals at each rate for about `seconds`, and longer where a p99 needs more arrivals.

    setting: whose session serves; its batch does not matter. readings: seconds of runs by batch size, for the deadline.
    Raises BenchError for rates that make no sense.
    """
    _check_rates(rates, batching)
    if subject.feeds.batch_size is not None:
        batching = Batching(min(batching.max_batch, subject.feeds.batch_size), batching.max_wait_seconds)
    serve = _server(subject, setting, batching.max_batch)
    warm_up(lambda: serve(batching.max_batch))
    runs = []
    for index, rate in enumerate(rates):
        progress(index / (len(rates) + 1))
        runs.append(_offered(rate, serve, batching, seconds, index))
    simulated = sustained = None
    if deadline_seconds is not None and readings:
        simulated = highest_rate(readings, batching.max_batch, batching.max_wait_seconds, deadline_seconds)
        rate = simulated or 0.0
        for attempt in range(MOST_TRIES if simulated else 0):
            served = _offered(rate, serve, batching, seconds, 1000 + attempt)
            if _keeps(served, deadline_seconds):
                sustained = served
                break
            rate *= STEP_DOWN
        # What was asked for may have kept it at a higher rate than was sought.
        sustained = max(
            [each for each in (*runs, *([sustained] if sustained else [])) if _keeps(each, deadline_seconds)],
            key=lambda each: each.rate,
            default=None,
        )
    progress(1.0)
    return Serving(setting, batching, tuple(runs), deadline_seconds, simulated, sustained)


def _check_rates(rates: Sequence[float], batching: Batching) -> None:
    for rate in rates:
        if not 0 < rate <= 1e6:
            raise BenchError(f"--arrival-rate must be > 0 and <= 1000000 images/s (got {rate:g}).")
    if not 1 <= batching.max_batch <= 4096:
        raise BenchError(f"--max-batch must be from 1 to 4096 (got {batching.max_batch}).")


def _keeps(served: Served, deadline_seconds: float) -> bool:
    worst = served.quantile(0.99)
    return worst is not None and worst <= deadline_seconds and not served.falling_behind


def _offered(rate: float, serve: Callable[[int], None], batching: Batching, seconds: float, seed: int) -> Served:
    # At a slow rate the arrivals that a p99 needs take longer than was asked for, within reason.
    count = int(max(rate * seconds, min(READINGS_FOR_P99, rate * LONGEST_SECONDS), 2))
    arrivals = poisson_arrivals(rate, count, seed)
    served = serve_arrivals(arrivals, serve, batching.max_batch, batching.max_wait_seconds, RealClock())
    # A table names the rate that was asked for; the moments of some arrivals make another one by chance.
    return replace(served, rate=rate)


def _server(subject: ArtifactSubject, setting: Setting, max_batch: int) -> Callable[[int], None]:
    """Runs a batch of any size up to `most`; an artifact with a fixed batch is fed whole ones."""
    fixed = subject.feeds.batch_size
    session, whole = subject.session(*setting.session), subject.feeds.of(fixed or max_batch)
    by_size: list[dict[str, np.ndarray]] = []
    if fixed is None:
        by_size = [
            {name: array[:size] if array.ndim else array for name, array in whole.items()}
            for size in range(max_batch + 1)
        ]

    def serve(size: int) -> None:
        session.run(None, whole if fixed else by_size[size])

    return serve
