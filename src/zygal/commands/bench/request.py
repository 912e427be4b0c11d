"""What zygal bench is asked for."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from zygal.endpoint import endpoint_option, timeout_option
from zygal.errors import BenchError
from zygal.files.outputs import PICTURE, TABLE, Output
from zygal.request import Request, option

if TYPE_CHECKING:
    pass


DEFAULT_SECONDS, MOST_SECONDS_UNTIL = 30.0, 300.0


LONGEST_ARRIVALS, FEWEST_ARRIVALS = 60.0, 5
"""Seconds for which slow arrivals are waited for, and how many there must be."""


CLUSTER_ONLY = ("plan_workers", "plan_images", "failures_per_hour", "late_share")


FIGURES = ("throughput.png", "latencies.png", "stages.png", "layers.png")


@dataclass(frozen=True, kw_only=True)
class BenchRequest(Request):
    """What zygal bench is asked for."""

    artifact: str = option("the artifact to run (.onnx or .tflite)", positional=True, metavar="ARTIFACT")
    batches: tuple[int, ...] = option(
        "batch sizes (default: {default})", (1, 2, 4, 8), metavar="N,N,...", kind="numbers", group="what is measured"
    )
    threads: tuple[int, ...] | None = option(
        "numbers of threads (default: 1 and the number of cores)",
        None,
        metavar="N,N,...",
        kind="numbers",
        group="what is measured",
    )
    levels: tuple[str, ...] = option(
        "graph optimisation of the runtime: off, basic, extended, all (default: {default})",
        ("all",),
        metavar="NAME,...",
        kind="words",
        group="what is measured",
    )
    execution: tuple[str, ...] = option(
        "execution modes of the runtime: sequential, parallel (default: {default})",
        ("sequential",),
        metavar="NAME,...",
        kind="words",
        group="what is measured",
    )
    seconds: float | None = option("how long to measure (default: 30)", None, kind="float", group="what is measured")
    until_within: float | None = option(
        "measure until the 95%% intervals of all medians are this narrow, at most for --seconds (default then: 300)",
        None,
        metavar="2%",
        kind="share of one",
        group="what is measured",
    )
    witness: str | None = option(
        "use its recorded tensors instead of random numbers", None, metavar="FILE", group="input tensors", reads=True
    )
    image_size: tuple[int, ...] | None = option(
        "image size, if the artifact does not fix it", None, metavar="H,W", kind="numbers", group="input tensors"
    )
    input_shape: tuple[tuple[str, tuple[int, ...]], ...] = option(
        "shape of one row of an input whose sizes are not fixed; may be repeated",
        (),
        metavar="NAME=N,N",
        kind="input shape",
        group="input tensors",
    )
    compare: tuple[str, ...] = option(
        "also measure another artifact, or a trained model in its live framework, on the same tensors; may be repeated",
        (),
        metavar="OTHER",
        group="further measurements",
        configurable=False,
    )
    compare_as: str | None = option(
        "how a trained model is run: PyTorch as the module of FILE.py:FUNCTION or as the captured program, Keras by "
        "its compiled prediction on a batch or layer by layer (default: the first that the source has)",
        None,
        choices=("module", "captured", "compiled", "eager"),
        group="further measurements",
        needs="compare",
    )
    weights: str | None = option(
        "weights for --compare FILE.py:FUNCTION",
        None,
        metavar="FILE",
        group="further measurements",
        reads=True,
        configurable=False,
    )
    images: str | None = option(
        "also measure from image files to scores, stage by stage",
        None,
        metavar="DIR",
        group="further measurements",
        reads=True,
    )
    inlet: str | None = option(
        "with --images: use this inlet instead of the one inside the artifact",
        None,
        metavar="FILE",
        group="further measurements",
        reads=True,
        needs="images",
    )
    deadline: float | None = option(
        "find the settings that meet it at p99", None, metavar="50ms", kind="seconds", group="further measurements"
    )
    arrival_rate: tuple[float, ...] | None = option(
        "also serve random arrivals at these rates (images/s); with --deadline, find the highest rate that meets it",
        None,
        metavar="RATE,...",
        kind="rates",
        group="further measurements",
    )
    max_batch: int | None = option(
        "with --arrival-rate: the largest batch that is formed (default: the largest of --batches)",
        None,
        metavar="N",
        kind="int",
        group="further measurements",
        needs="arrival_rate",
    )
    max_wait: float | None = option(
        "with --arrival-rate: how long an image waits for others (default: 0ms)",
        None,
        metavar="5ms",
        kind="seconds",
        group="further measurements",
        needs="arrival_rate",
    )
    layers: bool = option(
        "also measure the time of each layer of the training code", False, group="further measurements"
    )
    endpoint: str | None = endpoint_option("offer --arrival-rate to")
    timeout: float = timeout_option()
    cluster: str | None = option(
        "measure the workers of a Dask cluster with --images instead: tcp://HOST:PORT of its scheduler, or local:N; "
        "and simulate runs on more workers",
        None,
        metavar="ADDRESS",
        group="workers of a cluster",
        configurable=False,
    )
    plan_workers: tuple[int, ...] | None = option(
        "simulate runs on so many workers of one thread each (default: 1,10,100,1000)",
        None,
        metavar="N,N,...",
        kind="numbers",
        group="workers of a cluster",
        needs="cluster",
    )
    plan_images: int = option(
        "with so many images, like 1e9 (default: {default})",
        1000000,
        metavar="N",
        kind="count",
        group="workers of a cluster",
        needs="cluster",
    )
    failures_per_hour: float = option(
        "how often one worker is lost in an hour (default: {default})",
        0.0,
        metavar="N",
        kind="float",
        group="workers of a cluster",
        needs="cluster",
    )
    late_share: float = option(
        "the share of groups of images that take ten times as long as usual (default: {default})",
        0.0,
        metavar="SHARE",
        kind="share of one",
        group="workers of a cluster",
        needs="cluster",
    )
    csv: str | None = option("write the table as CSV", None, metavar="FILE", group="results", writes=True)
    draw: str | None = option("draw the figures there", None, metavar="DIR", group="results", writes=True)
    baseline: str | None = option(
        "gate: compare with the --json of an earlier run, and fail if slower",
        None,
        metavar="FILE",
        group="results",
        reads=True,
    )
    max_slowdown: float = option(
        "with --baseline: how much slower is allowed (default: {default})",
        0.15,
        metavar="SHARE",
        kind="share",
        group="results",
        needs="baseline",
    )
    force: bool = option(
        "with --baseline: compare although machine or settings differ",
        False,
        group="results",
        configurable=False,
        needs="baseline",
    )

    def outputs(self) -> list[Output]:
        """The files that are written."""
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
