"""What zygal classify found."""

from __future__ import annotations

from dataclasses import asdict, dataclass, field
from typing import TYPE_CHECKING, Any, ClassVar

from zygal.cluster.opened import ClusterUsed
from zygal.commands.classify.request import ClassifyRequest
from zygal.outcome import Outcome

if TYPE_CHECKING:
    from zygal.prediction.classifier import Classifier
    from zygal.prediction.figure import MappedPicture
    from zygal.prediction.prediction import Prediction


COUNTS = ("read", "unreadable", "uncertain", "disagreements")


@dataclass(frozen=True, kw_only=True)
class ClassifyOutcome(Outcome):
    """predictions: of a few images. rows: how many rows the output has, `resumed` of them from an earlier run; None
    without an output. replaced: images that are others than in the earlier run. numbers: of each vector, with --as
    vectors. disagreements: the most confident ones. maps: what supports the prediction, with --regions."""

    kind: ClassVar[str] = "zygal.classify"

    artifact: str
    engine: str
    scores: str
    labels: tuple[str, ...]
    labels_order: str | None
    multi_label: bool
    thresholds: dict[str, float]
    compared: str | None = None
    compared_engine: str | None = None
    counts: dict[str, int] = field(default_factory=dict)
    predictions: tuple[Prediction, ...] = ()
    output: str | None = None
    rows: int | None = None
    resumed: int = 0
    replaced: int = 0
    numbers: int | None = None
    disagreements: tuple[Prediction, ...] = ()
    seconds: float = 0.0
    cluster: ClusterUsed | None = None
    maps: tuple[MappedPicture, ...] = ()
    maps_differ_log_odds: float | None = None

    @property
    def images(self) -> int:
        """How many images there were, read or not."""
        return self.counts.get("read", 0) + self.counts.get("unreadable", 0)

    @property
    def images_per_second(self) -> float | None:
        """None if too few images were classified to say."""
        done = self.images - self.resumed
        return done / self.seconds if done >= 20 and self.seconds else None

    def result(self) -> dict[str, Any]:
        """See `Outcome.result`."""
        return {
            "artifact": self.artifact,
            "engine": self.engine,
            "scores": self.scores,
            "labels": list(self.labels),
            "labels_order": self.labels_order,
            "compared": self.compared,
            "thresholds": dict(self.thresholds),
            "counts": dict(self.counts),
            "images_per_second": self.images_per_second,
            "cluster": self.cluster and asdict(self.cluster),
            "predictions": [asdict(each) | {"disagree": each.disagree} for each in self.predictions],
            "output": self.output,
            "rows": self.rows,
            "rows_resumed": self.resumed,
            "images_replaced": self.replaced,
            "vector_numbers": self.numbers,
            "disagreements": [asdict(each) for each in self.disagreements],
            "regions": [_map(each) for each in self.maps],
            "regions_differ_log_odds": self.maps_differ_log_odds,
        }


def about(first: Classifier, other: Classifier | None, request: ClassifyRequest) -> dict[str, Any]:
    """The fields of an outcome that say what was run."""
    return {
        "artifact": first.name,
        "engine": first.engine_name,
        "scores": first.kind,
        "labels": first.labels,
        "labels_order": first.labels_order,
        "multi_label": first.multi_label,
        "thresholds": {
            "min_probability": request.min_probability,
            "min_margin": request.min_margin,
            "label": request.threshold,
        },
        "compared": other and other.name,
        "compared_engine": other and other.engine_name,
    }


def _map(mapped: MappedPicture) -> dict[str, Any]:
    found = mapped.found
    return {
        "model": mapped.name,
        "predicted": found.predicted,
        "probability": found.probability,
        "lowest_probability": found.lowest,
        "patch_pixels": list(found.patch),
        "log_odds_lost": found.weight.tolist(),
    }
