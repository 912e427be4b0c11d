"""An artifact at offered rates, on the real clock, and the highest rate that keeps a deadline."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

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
    """How images are batched: up to `most` of them, the first waiting for no longer than `patience_seconds`."""

    most: int
    patience_seconds: float


@dataclass(frozen=True)
class Serving:
    """runs: one for each offered rate. simulated_rate: the highest that keeps the deadline, from the measured service times
    on a virtual clock. kept: of the runs on the real clock, at the offered rates and from that one downwards, the highest that
    kept it, or None."""

    setting: Setting
    gathering: Batching
    runs: tuple[Served, ...]
    deadline_seconds: float | None
    simulated_rate: float | None
    kept: Served | None


def offer(
    subject: ArtifactSubject,
    setting: Setting,
    rates: Sequence[float],
    gathering: Batching,
    seconds: float,
    deadline_seconds: float | None = None,
    readings: Mapping[int, Sequence[float]] | None = None,
    progress: Callable[[float], None] = lambda part: None,
) -> Serving:
    """Serves Poisson arrivals at each rate for about `seconds`, and longer where a p99 needs more arrivals.

    setting: whose session serves; its batch does not matter. readings: seconds of runs by batch size, for the deadline.
    Raises BenchError for rates that make no sense.
    """
    for rate in rates:
        if not 0 < rate <= 1e6:
            raise BenchError(f"an offered rate of {rate:g} images a second makes no sense; give more than 0.")
    if not 1 <= gathering.most <= 4096:
        raise BenchError(f"a batch of up to {gathering.most} makes no sense; give 1 to 4096.")
    if subject.feeds.batch_size is not None:
        gathering = Batching(min(gathering.most, subject.feeds.batch_size), gathering.patience_seconds)
    serve = _server(subject, setting, gathering.most)
    warm_up(lambda: serve(gathering.most))
    runs = []
    for place, rate in enumerate(rates):
        progress(place / (len(rates) + 1))
        runs.append(_offered(rate, serve, gathering, seconds, place))
    simulated = kept = None
    if deadline_seconds is not None and readings:
        simulated = highest_rate(readings, gathering.most, gathering.patience_seconds, deadline_seconds)
        rate = simulated or 0.0
        for attempt in range(MOST_TRIES if simulated else 0):
            served = _offered(rate, serve, gathering, seconds, 1000 + attempt)
            if _keeps(served, deadline_seconds):
                kept = served
                break
            rate *= STEP_DOWN
        # What was asked for may have kept it at a higher rate than was sought.
        kept = max([each for each in (*runs, *([kept] if kept else [])) if _keeps(each, deadline_seconds)],
                   key=lambda each: each.rate, default=None)  # fmt: skip
    progress(1.0)
    return Serving(setting, gathering, tuple(runs), deadline_seconds, simulated, kept)


def _keeps(served: Served, deadline_seconds: float) -> bool:
    worst = served.quantile(0.99)
    return worst is not None and worst <= deadline_seconds and not served.falling_behind


def _offered(rate: float, serve: Callable[[int], None], gathering: Batching, seconds: float, seed: int) -> Served:
    # At a slow rate the arrivals that a p99 needs take longer than was asked for, within reason.
    count = int(max(rate * seconds, min(READINGS_FOR_P99, rate * LONGEST_SECONDS), 2))
    arrivals = poisson_arrivals(rate, count, seed)
    return serve_arrivals(arrivals, serve, gathering.most, gathering.patience_seconds, RealClock())


def _server(subject: ArtifactSubject, setting: Setting, most: int) -> Callable[[int], None]:
    """Runs a batch of any size up to `most`; an artifact with a fixed batch is fed whole ones."""
    fixed = subject.feeds.batch_size
    session, whole = subject.session(*setting.session), subject.feeds.of(fixed or most)
    by_size: list[dict[str, np.ndarray]] = []
    if fixed is None:
        by_size = [
            {name: array[:size] if array.ndim else array for name, array in whole.items()} for size in range(most + 1)
        ]

    def serve(size: int) -> None:
        session.run(None, whole if fixed else by_size[size])

    return serve
