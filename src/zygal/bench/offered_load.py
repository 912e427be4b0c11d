"""Requests sent to a service at an offered rate, whether or not earlier ones have been answered."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from typing import Any

import numpy as np

from zygal.bench.arrivals import RealClock, poisson_arrivals
from zygal.bench.result import READINGS_FOR_P99
from zygal.endpoint.service import CONNECTIONS
from zygal.errors import EndpointError
from zygal.statistics.quantiles import interval_of_quantile, quantile_of

LATE_SECONDS = 0.005
LONGEST_SECONDS = 60.0


@dataclass(frozen=True)
class Offered:
    """rate: images per second that were offered, in requests of `batch`. latencies: seconds from when each request was
    due to its answer, in the order of arrival; of those that were answered. failures: how many were not, by the reason.
    late: the share of the requests that this machine sent more than LATE_SECONDS after they were due. seconds: from the
    first that was due to the last answer."""

    rate: float
    batch: int
    latencies: np.ndarray
    failures: dict[str, int]
    late: float
    seconds: float

    @property
    def requests(self) -> int:
        """How many requests were sent, answered or not."""
        return len(self.latencies) + sum(self.failures.values())

    @property
    def images_per_second(self) -> float:
        """That were answered."""
        return len(self.latencies) * self.batch / self.seconds

    @property
    def falling_behind(self) -> bool:
        """Whether answers took longer and longer, so that latencies say nothing but how long the run was."""
        quarter = len(self.latencies) // 4
        if quarter < 5:
            return False
        return float(np.median(self.latencies[-quarter:])) > 3 * float(np.median(self.latencies[:quarter]))

    def quantile(self, part: float) -> float | None:
        """None where too few requests carry it, or none was answered."""
        return quantile_of(self.latencies, part) if len(self.latencies) else None

    def interval_of_quantile(self, part: float) -> tuple[float, float] | None:
        """Its 95 % interval."""
        return interval_of_quantile(self.latencies, part) if len(self.latencies) else None

    def document(self) -> dict[str, Any]:
        """The result as JSON data, with units in the keys."""
        return {
            "offered_images_per_second": self.rate,
            "batch_images": self.batch,
            "requests": self.requests,
            "answered_images_per_second": self.images_per_second,
            "latency_p50_seconds": self.quantile(0.5),
            "latency_p90_seconds": self.quantile(0.9),
            "latency_p99_seconds": self.quantile(0.99),
            "latency_max_seconds": float(self.latencies.max()) if len(self.latencies) else None,
            "failures": dict(self.failures),
            "sent_late_share": self.late,
            "falling_behind": self.falling_behind,
        }


def offer(
    send: Callable[[int], object],
    rate: float,
    batch: int,
    seconds: float,
    seed: int = 0,
    progress: Callable[[float], None] = lambda part: None,
) -> Offered:
    """Calls send(number) at random moments, rate / batch times a second on average, for about `seconds`; longer where a
    p99 needs more requests."""
    per_second = rate / batch
    count = int(max(per_second * seconds, min(READINGS_FOR_P99, per_second * LONGEST_SECONDS), 2))
    clock, arrivals = RealClock(), poisson_arrivals(per_second, count, seed)
    latencies, failures, late = np.full(count, np.nan), Counter(), 0
    # Started before, so that no thread begins while a request is due.
    with ThreadPoolExecutor(CONNECTIONS) as pool:
        list(pool.map(lambda _: None, range(CONNECTIONS)))
        start = clock.now() + 0.05

        def one(number: int) -> bool:
            due = start + arrivals[number]
            began = clock.now()
            try:
                send(number)
            except EndpointError as fault:
                failures[_reason(fault)] += 1
            else:
                latencies[number] = clock.now() - due
            return began - due > LATE_SECONDS

        waiting = []
        for number, moment in enumerate(arrivals):
            clock.wait_until(start + moment)
            waiting.append(pool.submit(one, number))
            if number % 20 == 0:
                progress(number / count)
        late = sum(each.result() for each in waiting)
        ended = clock.now()
    return Offered(rate, batch, latencies[~np.isnan(latencies)], dict(failures), late / count, max(ended - start, 1e-9))


def _reason(fault: EndpointError) -> str:
    return str(fault).partition(" ")[2].split(";")[0].rstrip(".")


def offer_all(
    send: Callable[[int], object], rates: Sequence[float], batch: int, seconds: float, progress: Callable[[float], None]
) -> list[Offered]:
    """One rate after the other, each for its share of the time."""
    part = seconds / len(rates)
    return [
        offer(send, rate, batch, part, index, lambda done, index=index: progress((index + done) / len(rates)))
        for index, rate in enumerate(rates)
    ]
