"""zygal bench with --endpoint: a service under offered load."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, ClassVar

import numpy as np

from zygal.commands.bench.request import DEFAULT_SECONDS, BenchRequest, check_rates
from zygal.endpoint import check_timeout
from zygal.errors import BenchError
from zygal.listener import Listener
from zygal.outcome import Gate, Outcome
from zygal.request import refuse_given, refuse_unused

if TYPE_CHECKING:
    from zygal.bench.offered_load import Offered

NOT_THERE = (
    "threads",
    "until_within",
    "compare",
    "compare_as",
    "weights",
    "images",
    "inlet",
    "max_batch",
    "max_wait",
    "layers",
    "csv",
    "draw",
    "baseline",
    "force",
    "input_shape",
    "cluster",
)
"""Options of the other measurements."""


@dataclass(frozen=True, kw_only=True)
class EndpointOutcome(Outcome):
    """service: its URL and version. inputs_from: what was sent. runs: one for each batch size and rate."""

    kind: ClassVar[str] = "zygal.bench-endpoint"

    request: BenchRequest
    service: str
    inputs_from: str
    runs: tuple[Offered, ...]

    def result(self) -> dict[str, Any]:
        """See `Outcome.result`."""
        return {
            "endpoint": self.request.endpoint,
            "service": self.service,
            "inputs_from": self.inputs_from,
            "deadline_seconds": self.request.deadline,
            "runs": [each.document() for each in self.runs],
        }


def execute(request: BenchRequest, listener: Listener) -> EndpointOutcome:
    """Offers the load. Raises ZygalError."""
    from zygal.artifact.formats import read_artifact
    from zygal.bench.offered_load import offer_all
    from zygal.endpoint.engine import EndpointEngine

    _check(request)
    facts = read_artifact(request.artifact)
    engine = EndpointEngine(request.endpoint, request.timeout, facts.chosen.name)
    tensors, origin = _tensors(request, facts)
    runs: list[Offered] = []
    for index, batch in enumerate(request.batches):
        batches = [_batch(tensors, batch, number) for number in range(min(16, len(tensors)))]
        # The first answers make connections and warm the service up; they also say at once what does not fit.
        for each in batches[:4]:
            engine.run(each)

        def send(number: int, batches=batches) -> None:
            engine.run(batches[number % len(batches)])

        def progress(part: float, index=index) -> None:
            listener.step("offered load", (index + part) / len(request.batches))

        runs += offer_all(
            send, request.arrival_rate, batch, (request.seconds or DEFAULT_SECONDS) / len(request.batches), progress
        )
    return EndpointOutcome(
        request=request,
        service=engine.name,
        inputs_from=origin,
        runs=tuple(runs),
        gates=tuple(_gates(request, runs)),
        notes=(*engine.service.notes(), *_notes(runs)),
    )


def _check(request: BenchRequest) -> None:
    refuse_given(request, NOT_THERE, "--endpoint", BenchError)
    if not request.arrival_rate:
        raise BenchError(
            "--endpoint needs --arrival-rate RATE,...: how many images a second are offered to the service."
        )
    check_rates(request)
    idle = ("levels", "execution", "max_slowdown")
    refuse_unused(request, idle, "--endpoint measures a service, which runs as it was started", BenchError)
    check_timeout(request.timeout)


def _tensors(request: BenchRequest, facts: Any) -> tuple[np.ndarray, str]:
    """What is sent: the recorded tensors, or random numbers of the artifact's shape."""
    from zygal.commands.bench.here import recorded_tensors

    tensors, origin = recorded_tensors(request)
    if tensors is not None:
        return tensors, origin
    ((dtype, shape),) = facts.inputs.values()
    sizes = [*shape[1:]]
    if request.image_size:
        open_sizes = iter(request.image_size)
        sizes = [size if isinstance(size, int) else next(open_sizes, None) for size in sizes]
    if not all(isinstance(size, int) for size in sizes):
        raise BenchError(
            f"{request.artifact} leaves the image size open; give --image-size HEIGHT,WIDTH or --witness FILE."
        )
    chance = np.random.default_rng(0)
    numbers = chance.integers(0, 256, (8, *sizes)) if dtype == "uint8" else chance.normal(size=(8, *sizes))
    return numbers.astype(dtype), "random numbers"


def _batch(tensors: np.ndarray, size: int, number: int) -> np.ndarray:
    return np.ascontiguousarray(tensors[(np.arange(size) + number * size) % len(tensors)])


def _gates(request: BenchRequest, runs: list[Offered]):
    failed = sum(sum(each.failures.values()) for each in runs)
    yield Gate("answers", "requests without an answer", failed, 0, f"of {sum(each.requests for each in runs)} requests")
    if request.deadline is None:
        return
    for run in runs:
        p99 = run.quantile(0.99)
        low, high = (1e3 * each for each in run.interval_of_quantile(0.99)) if p99 is not None else (None, None)
        yield Gate(
            "deadline",
            f"{run.rate:g} images/s in batches of {run.batch}: p99",
            None if p99 is None else 1e3 * p99,
            1e3 * request.deadline,
            "ms",
            f"{run.requests} requests are too few for a p99; give more --seconds",
            low=low,
            high=high,
            deciding="give more --seconds",
        )


def _notes(runs: list[Offered]) -> list[str]:
    from zygal.endpoint.service import CONNECTIONS

    late = [run for run in runs if run.late > 0.01]
    return [
        f"{100 * run.late:.0f} % of the requests at {run.rate:g} images/s in batches of {run.batch} were sent late, "
        f"because {CONNECTIONS} were under way or this machine was busy; their latencies include that"
        for run in late
    ]
