"""What zygal tally found."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import TYPE_CHECKING, Any, ClassVar

from zygal.cluster.opened import ClusterUsed
from zygal.listener import Listener
from zygal.outcome import Outcome

if TYPE_CHECKING:
    from zygal.statistics.intervals import Estimate
    from zygal.tally.tally import Tally


@dataclass(frozen=True, kw_only=True)
class TallyOutcome(Outcome):
    """artifact, compared: what the user called them. engine: what ran the artifact. labels: class names in order.
    worst: how many of the worst classes, pairs and images a report lists. left_out: images whose labels are no
    classes."""

    kind: ClassVar[str] = "zygal.tally"

    artifact: str
    engine: str
    images: str
    scores: str
    labels: tuple[str, ...]
    labels_order: str | None
    found: Tally
    compared: str | None = None
    worst: int = 12
    cluster: ClusterUsed | None = None
    left_out: int = 0

    @property
    def conclusions(self) -> tuple[str, ...]:
        """See `Outcome.conclusions`."""
        from zygal.tally.conclusions import calibration_sentence, paired_sentences, warnings

        found = self.found
        paired = paired_sentences(found.paired, self.artifact, self.compared) if found.paired else []
        what = "predictions" if found.exclusive else "labels"
        return (calibration_sentence(found.calibration, what), *warnings(found, self.worst), *paired)

    def result(self) -> dict[str, Any]:
        """See `Outcome.result`."""
        found = self.found
        return {
            "artifact": self.artifact,
            "engine": self.engine,
            "compared": self.compared,
            "cluster": self.cluster and asdict(self.cluster),
            "images_from": self.images,
            "images": found.images,
            "labels": list(self.labels),
            "labels_order": self.labels_order,
            "scores": self.scores,
            "accuracy": _estimate(found.accuracy),
            "exclusive": _exclusive(found.exclusive) if found.exclusive else None,
            "multi_label": _multi_label(found.multi_label) if found.multi_label else None,
            "compared_exclusive": _exclusive(found.other) if found.other and found.exclusive else None,
            "compared_multi_label": _multi_label(found.other) if found.other and found.multi_label else None,
            "paired": _paired(found.paired) if found.paired else None,
            "calibration": _calibration(found.calibration),
            "groups": {
                name: {"images": found.group_images[name], "accuracy": _estimate(share)}
                for name, share in found.groups.items()
            },
            "misclassified": [asdict(each) for each in found.misclassified],
            "exchanged_labels": found.exchange and asdict(found.exchange),
            "duplicates": asdict(found.duplicates),
            "images_left_out": self.left_out,
            "labels_left_out": dict(found.joined.unknown),
            "labels_spelt_differently": dict(found.joined.respelt),
            "classes_without_images": list(found.without_images),
        }


class _Progress:
    """Tells the listener how many images are done."""

    def __init__(self, listener: Listener, total: int):
        self.listener, self.done, self.total = listener, 0, total
        self(0)

    def __call__(self, more: int) -> None:
        self.done += more
        self.listener.count("images", self.done, self.total)


def _estimate(estimate: Estimate) -> dict[str, float]:
    return {"value": estimate.value, "ci95_low": estimate.low, "ci95_high": estimate.high}


def _exclusive(accuracy) -> dict[str, Any]:
    return {
        "top_k_accuracy": {str(k): _estimate(share) for k, share in accuracy.top.items()},
        "balanced_accuracy": _estimate(accuracy.balanced),
        "cross_entropy_nats": _estimate(accuracy.cross_entropy),
        "macro_precision": accuracy.macro_precision,
        "macro_recall": accuracy.macro_recall,
        "macro_f1": accuracy.macro_f1,
        "classes": [
            asdict(each) | {"recall_interval": each.recall_interval and _estimate(each.recall_interval)}
            for each in accuracy.classes
        ],
        "confusion_counts": accuracy.confusion.tolist(),
        "confused_pairs": [asdict(each) for each in accuracy.pairs],
    }


def _multi_label(accuracy) -> dict[str, Any]:
    averages = accuracy.averages
    return {
        "threshold": accuracy.threshold,
        "exact_match": _estimate(accuracy.exact_match),
        "hamming_loss": accuracy.hamming_loss,
        "averages": {
            kind: dict(zip(("precision", "recall", "f1"), getattr(averages, kind)))
            for kind in ("micro", "macro", "samples")
        },
        "labels": [asdict(each) for each in accuracy.labels],
        "best_threshold": accuracy.best_threshold,
        "best_f1": accuracy.best_f1,
    }


def _paired(paired) -> dict[str, Any]:
    return asdict(paired) | {"difference": _estimate(paired.difference), "verdict": paired.verdict}


def _calibration(calibration) -> dict[str, Any]:
    return {
        "expected_calibration_error": calibration.expected_error,
        "corrected_calibration_error": calibration.corrected_error,
        "ci95_low": calibration.low,
        "ci95_high": calibration.high,
        "error_by_chance": calibration.by_chance,
        "p_value_of_perfect_calibration": calibration.p_value,
        "predictions": calibration.images,
        "mean_confidence": calibration.confidence,
        "accuracy": _estimate(calibration.accuracy),
        "bins": [asdict(each) | {"accuracy": each.accuracy and _estimate(each.accuracy)} for each in calibration.bins],
    }
