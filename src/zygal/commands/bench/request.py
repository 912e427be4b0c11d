"""What zygal bench is asked for."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from zygal.endpoint import TIMEOUT_SECONDS
from zygal.errors import BenchError
from zygal.files.outputs import PICTURE, TABLE, Output
from zygal.request import Request

if TYPE_CHECKING:
    pass


DEFAULT_SECONDS, MOST_SECONDS_UNTIL = 30.0, 300.0


LONGEST_ARRIVALS, FEWEST_ARRIVALS = 60.0, 5
"""Seconds for which slow arrivals are waited for, and how many there must be."""


CLUSTER_ONLY = ("plan_workers", "plan_images", "failures_per_hour", "late_share")


FIGURES = ("throughput.png", "latencies.png", "stages.png", "layers.png")


@dataclass(frozen=True, kw_only=True)
class BenchRequest(Request):
    """What is measured: batches, threads (1 and all cores unless given), levels and execution modes of the runtime; for
    `seconds`, or until all medians are known within `until_within`.

    What goes in: tensors of a witness, else random numbers; image_size (height, width) and input_shape (name, sizes)
    where the artifact leaves sizes open. compare: other artifacts or trained models, with weights for FILE.py:FUNCTION;
    compare_as: how a trained model is run, where there are several ways. images: also measure the pipeline from these
    files, with `inlet`. deadline: seconds. arrival_rate: images/s of random arrivals; max_batch (the largest of batches
    unless given) and max_wait (seconds) say how they are batched. layers: time by layer. baseline: JSON of an earlier
    run; max_slowdown: how much slower is allowed, as a share; force: compare although machine or settings differ.
    endpoint: a service to offer the arrival rates to, instead of running the artifact here; timeout: seconds for one
    answer. cluster: workers to measure instead; plan_workers, plan_images: the runs to simulate; failures_per_hour: of
    a worker; late_share: of groups of images that take ten times as long."""

    artifact: str
    batches: tuple[int, ...] = (1, 2, 4, 8)
    threads: tuple[int, ...] | None = None
    levels: tuple[str, ...] = ("all",)
    execution: tuple[str, ...] = ("sequential",)
    seconds: float | None = None
    until_within: float | None = None
    witness: str | None = None
    image_size: tuple[int, ...] | None = None
    input_shape: tuple[tuple[str, tuple[int, ...]], ...] = ()
    compare: tuple[str, ...] = ()
    compare_as: str | None = None
    weights: str | None = None
    images: str | None = None
    inlet: str | None = None
    deadline: float | None = None
    arrival_rate: tuple[float, ...] | None = None
    max_batch: int | None = None
    max_wait: float | None = None
    layers: bool = False
    csv: str | None = None
    draw: str | None = None
    baseline: str | None = None
    max_slowdown: float = 0.15
    force: bool = False
    endpoint: str | None = None
    timeout: float = TIMEOUT_SECONDS
    cluster: str | None = None
    plan_workers: tuple[int, ...] | None = None
    plan_images: int = 1_000_000
    failures_per_hour: float = 0.0
    late_share: float = 0.0
    overwrite: bool = False

    def outputs(self) -> list[Output]:
        outputs = [Output(self.csv, TABLE)] if self.csv else []
        return (
            outputs + [Output(str(Path(self.draw) / name), PICTURE, True) for name in FIGURES] if self.draw else outputs
        )


def check_rates(request: BenchRequest) -> None:
    """Raises BenchError for arrival rates that bring nothing, before anything is measured."""
    seconds = request.seconds or DEFAULT_SECONDS
    for rate in request.arrival_rate or ():
        if not 0 < rate <= 1e6:
            raise BenchError(f"--arrival-rate must be > 0 and <= 1000000 images/s (got {rate:g}).")
        if rate * max(seconds, LONGEST_ARRIVALS) < FEWEST_ARRIVALS:
            raise BenchError(
                f"--arrival-rate {rate:g} brings {rate * max(seconds, LONGEST_ARRIVALS):.2g} images in "
                f"{max(seconds, LONGEST_ARRIVALS):g} s, too few to say anything; give a higher rate, or more --seconds."
            )
