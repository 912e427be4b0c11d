"""What a request names: the artifact, the model that it is compared with, and the workers that run them."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from itertools import islice
from typing import TYPE_CHECKING

from zygal.endpoint import check_timeout, endpoint_option, timeout_option
from zygal.errors import ClusterError, EngineError, SourceError
from zygal.files import kinds
from zygal.machine.pool import Pool, ThreadPool
from zygal.request import SCORES_DEFAULT, Request, option, refuse_given, refuse_without

if TYPE_CHECKING:
    from zygal.prediction.classifier import Classifier


@dataclass(frozen=True, kw_only=True)
class ClassifierRequest(Request):
    """What the requests of `classify` and `tally` share: how an artifact is run, and what it is compared with."""

    artifact: str = option("the ONNX file to run", positional=True, metavar="ARTIFACT")
    scores: str | None = option(
        f"the output of the artifact to use, if it has several ({SCORES_DEFAULT})", None, metavar="NAME"
    )
    inlet: str | None = option(
        "use this inlet instead of the one inside the artifact", None, metavar="FILE", reads=True
    )
    labels: str | None = option(
        "use these labels instead of those inside: text, JSON, CSV, or the training folder",
        None,
        metavar="FILE",
        reads=True,
    )
    multi_label: bool = option("an image can have several labels, although the model does not end in a sigmoid", False)
    compare: str | None = option(
        "run OTHER on the same images: another artifact, or a trained model in its live framework",
        None,
        metavar="OTHER",
        group="comparison with another model",
        configurable=False,
    )
    compare_scores: str | None = option(
        f"the output of OTHER to use, if it has several ({SCORES_DEFAULT})",
        None,
        metavar="NAME",
        group="comparison with another model",
    )
    compare_inlet: str | None = option(
        "the inlet of OTHER, if it is another one",
        None,
        metavar="FILE",
        group="comparison with another model",
        reads=True,
    )
    weights: str | None = option(
        "weights, if OTHER is FILE.py:FUNCTION",
        None,
        metavar="FILE",
        group="comparison with another model",
        reads=True,
        configurable=False,
    )
    threads: int | None = option("number of cores to use (default: all)", None, metavar="N", kind="int")
    cluster: str | None = option(
        "let the workers of a Dask cluster do it: the address of its scheduler, like tcp://HOST:8786, the .json "
        "file that the scheduler wrote, or local:N for N worker processes here; the output is the same",
        None,
        metavar="ADDRESS",
        configurable=False,
    )
    endpoint: str | None = endpoint_option("send the images, preprocessed here, to")
    timeout: float = timeout_option()


def check_request(request: ClassifierRequest) -> None:
    """Raises EngineError or SourceError for options that contradict each other."""
    if request.threads is not None and request.threads < 1:
        raise EngineError(f"--threads must be at least 1 (got {request.threads}).")
    check_timeout(request.timeout)
    refuse_without(request, EngineError, ("timeout",))
    if request.cluster is not None:
        from zygal.cluster.connection import check_address

        check_address(request.cluster)
        refuse_given(request, ("threads", "endpoint"), "--cluster", ClusterError)
    if request.compare is None:
        for name in ("compare_scores", "compare_inlet", "weights"):
            if getattr(request, name):
                raise SourceError(f"--{name.replace('_', '-')} needs --compare, which is not given.")


@contextmanager
def open_classifiers(
    request: ClassifierRequest, before_compared: Callable[[Classifier], None] | None = None
) -> Iterator[tuple[Classifier, Classifier | None]]:
    """The artifact, and the model that it is compared with, if any. before_compared: called with the artifact before a
    framework is loaded, to refuse what cannot work. Raises ZygalError."""
    from zygal.artifact.inlets import inlet_at
    from zygal.classifier.labels import read_labels
    from zygal.files.recognition import kind_of
    from zygal.inlet.sizes import tensor_shape
    from zygal.prediction.classifier import open_artifact, open_compared
    from zygal.sources.opened import source_file

    check_request(request)
    labels = read_labels(request.labels) if request.labels else None
    inlet = inlet_at(request.inlet) if request.inlet else None
    first = open_artifact(request.artifact, inlet, labels, request.multi_label, scores=request.scores)
    if request.endpoint:
        first.serve_at(request.endpoint, request.timeout)
    if before_compared is not None:
        before_compared(first)
    if request.compare is None:
        yield first, None
        return
    if request.cluster is not None and kind_of(request.compare) not in kinds.ARTIFACTS:
        raise ClusterError(
            f"--cluster compares artifacts, but {request.compare} is a trained model; convert it first, and "
            f"give its artifact."
        )
    inlet = inlet_at(request.compare_inlet) if request.compare_inlet else None
    shape = tensor_shape(inlet or first.inlet)
    with source_file(request.compare, request.weights, shape, "--compare") as source:
        yield first, open_compared(source, first, inlet, request.multi_label, request.compare_scores)


@dataclass(frozen=True)
class ClusterUsed:
    """address: as the user gave it. workers, threads: how many there were when the run began."""

    address: str
    workers: int
    threads: int


@contextmanager
def open_pool(
    request: ClassifierRequest, classifiers: Iterable[Classifier | None], names: Iterable[str]
) -> Iterator[tuple[Pool, ClusterUsed | None]]:
    """Who does the work: threads, or the workers of a cluster after they were examined. names: of images; the first are
    looked for on every worker. Raises ClusterError."""
    if request.cluster is None:
        yield ThreadPool(request.threads), None
        return
    from zygal.cluster.admission import FIRST_IMAGES
    from zygal.cluster.connection import LOCAL, connected
    from zygal.cluster.pool import ClusterPool

    with connected(request.cluster) as client:
        pool = ClusterPool(client)
        slots = pool.workers.slots()
        pool.admit(*filter(None, classifiers))
        if not request.cluster.startswith(LOCAL):
            pool.check_visible(islice(names, FIRST_IMAGES))
        yield pool, ClusterUsed(request.cluster, len(slots), sum(slots.values()))
