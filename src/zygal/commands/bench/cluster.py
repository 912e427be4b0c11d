"""zygal bench with --cluster: what the workers of a cluster bring, what limits them, and how long a planned run
takes."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import TYPE_CHECKING, Any, ClassVar

from zygal.commands.bench.request import BenchRequest
from zygal.errors import BenchError, FileError
from zygal.listener import Listener
from zygal.outcome import Outcome
from zygal.request import default_of, named, refuse_given

if TYPE_CHECKING:
    from zygal.cluster.measure import MeasuredCluster
    from zygal.cluster.simulation import Simulated

NOT_THERE = (
    "threads",
    "until_within",
    "compare",
    "compare_as",
    "weights",
    "witness",
    "image_size",
    "input_shape",
    "deadline",
    "arrival_rate",
    "max_batch",
    "max_wait",
    "layers",
    "csv",
    "draw",
    "baseline",
    "force",
    "endpoint",
)
"""Options of the other measurements."""
WITH_DEFAULTS = ("batches", "levels", "execution", "max_slowdown", "timeout")
DEFAULT_SECONDS = 30.0
DEFAULT_WORKERS = (1, 10, 100, 1000)
MOST_WORKERS, MOST_IMAGES = 100_000, 10**12
MOST_NAMES = 10_000
"""So many images are measured with, again and again."""


@dataclass(frozen=True, kw_only=True)
class PlannedRun:
    """So many workers of one thread each, simulated."""

    workers: int
    simulated: Simulated


@dataclass(frozen=True, kw_only=True)
class ClusterOutcome(Outcome):
    """measured_images: how many were measured with. pay: how many threads of workers pay, before `limit` is what limits
    them; storage_seen: whether the storage is near its limit."""

    kind: ClassVar[str] = "zygal.bench-cluster"

    request: BenchRequest
    engine: str
    measured_images: int
    found: MeasuredCluster
    pay: int
    limit: str
    storage_seen: bool
    planned: tuple[PlannedRun, ...]

    def result(self) -> dict[str, Any]:
        """See `Outcome.result`."""
        found, request = self.found, self.request
        return {
            "artifact": request.artifact,
            "engine": self.engine,
            "cluster": request.cluster,
            "images": request.images,
            "measured_images": self.measured_images,
            "one_thread": _speed(found.one),
            "all_threads": _speed(found.all),
            "reading_one_thread": _speed(found.reading_one),
            "reading_all_threads": _speed(found.reading_all),
            "worker_start_seconds": found.start_seconds,
            "coordinator": asdict(found.coordinator),
            "threads_that_pay": self.pay,
            "limit": self.limit,
            "storage_limit_seen": self.storage_seen,
            "planned_images": request.plan_images,
            "failures_per_worker_hour": request.failures_per_hour,
            "late_groups_share": request.late_share,
            "planned": [{"threads": each.workers, **asdict(each.simulated)} for each in self.planned],
        }


def execute(request: BenchRequest, listener: Listener) -> ClusterOutcome:
    """Measures, and simulates the planned runs. Raises ZygalError."""
    from zygal.cluster.connection import connected
    from zygal.cluster.measure import measure_cluster
    from zygal.cluster.pool import ClusterPool
    from zygal.inlet import read_inlet
    from zygal.prediction.classification import Classification
    from zygal.prediction.classifier import open_artifact

    _check(request)
    names = _names(request)
    classifier = open_artifact(request.artifact, read_inlet(request.inlet) if request.inlet else None)
    with connected(request.cluster) as client:
        pool = ClusterPool(client)
        pool.admit(classifier)
        pool.check_visible(names[:100])
        run = Classification(classifier, top=min(3, len(classifier.labels)), pool=pool)
        found = measure_cluster(
            pool,
            run,
            names,
            request.seconds or DEFAULT_SECONDS,
            lambda part: listener.step("measuring the cluster", part),
        )
    pay, limit, seen = _limits(found)
    return ClusterOutcome(
        request=request,
        engine=classifier.engine_name,
        measured_images=len(names),
        found=found,
        pay=pay,
        limit=limit,
        storage_seen=seen,
        planned=tuple(_planned(request, found, seen, listener)),
        notes=(*pool.notes, *_notes(found)),
    )


def _check(request: BenchRequest) -> None:
    from zygal.cluster.connection import check_address

    check_address(request.cluster)
    refuse_given(request, NOT_THERE, "--cluster", BenchError)
    for name in WITH_DEFAULTS:
        if getattr(request, name) != default_of(BenchRequest, name):
            raise BenchError(f"{named(BenchRequest, name)} does not apply to --cluster; leave it out.")
    if not request.images:
        raise BenchError("--cluster measures with image files; give --images DIR, or a URL of a folder.")
    for workers in request.plan_workers or ():
        if not 1 <= workers <= MOST_WORKERS:
            raise BenchError(f"--plan-workers takes numbers from 1 to {MOST_WORKERS} (got {workers}).")
    if not 1 <= request.plan_images <= MOST_IMAGES:
        raise BenchError(f"--plan-images must be from 1 to {MOST_IMAGES:.0e} (got {request.plan_images}).")
    if not 0 <= request.failures_per_hour <= 100:
        raise BenchError(
            f"--failures-per-hour must be from 0 to 100 for one worker (got {request.failures_per_hour:g})."
        )


def _names(request: BenchRequest) -> list[str]:
    from itertools import islice

    from zygal.prediction.listing import Listing

    listing = Listing((request.images,))
    listing.check()
    names = list(islice(listing, MOST_NAMES))
    if len(names) < 8:
        raise FileError(f"{request.images} holds {len(names)} images; give a folder of at least 8.")
    return names


def _limits(found: MeasuredCluster) -> tuple[int, str, bool]:
    """How many threads pay, what is the limit then, and whether the storage is near its limit: reading alone is less
    than 1.5 times as fast as classifying."""
    from zygal.cluster.simulation import workers_that_pay

    seen = found.reading_all.images_per_second < 1.5 * found.all.images_per_second
    coordinator = 1 / (found.coordinator.row_seconds + found.coordinator.group_seconds / found.coordinator.group_rows)
    return *workers_that_pay(
        found.all.of_each, coordinator, found.reading_all.images_per_second if seen else None
    ), seen


def _planned(request: BenchRequest, found: MeasuredCluster, storage_seen: bool, listener: Listener):
    from zygal.cluster.simulation import Plan, simulate

    chosen = request.plan_workers or DEFAULT_WORKERS
    storage = found.reading_all.images_per_second if storage_seen else None
    for place, workers in enumerate(chosen):
        listener.step("simulating", place / len(chosen))
        plan = Plan(
            request.plan_images, workers, request.failures_per_hour, late_share=request.late_share, storage=storage
        )
        yield PlannedRun(workers=workers, simulated=simulate(found.times, plan))


def _notes(found: MeasuredCluster) -> list[str]:
    notes = []
    alone, each = found.one.of_each, found.all.of_each
    if each < 0.7 * alone:
        notes.append(
            f"all {found.all.slots} threads at once give {each:.0f} images/s each, one alone {alone:.0f}: they "
            f"share cores or memory; the plan is for machines as full as these"
        )
    return notes


def _speed(speed: Any) -> dict[str, Any]:
    document = asdict(speed) | {"block_seconds": list(speed.block_seconds)}
    return {"threads" if name == "slots" else name: value for name, value in document.items()}
