"""What a match finds: gates, images and causes."""

from __future__ import annotations

from dataclasses import dataclass

from zygal.evidence.causes import Cause
from zygal.evidence.compare import ScoreComparison
from zygal.evidence.layers import Departure
from zygal.outcome import Gate


@dataclass(frozen=True)
class Limits:
    """tensor: grey levels. model and end_to_end: fractions of the spread of the recorded scores. shrunk: the artifact
    is in lower precision, so B and C are judged by the least shares of images with the recorded top-1 class (agree) and
    of pairs of classes in the recorded order (order)."""

    tensor: float = 0.5
    model: float = 1e-4
    end_to_end: float = 1e-2
    shrunk: bool = False
    agree: float = 0.99
    order: float = 0.99


ELSEWHERE, ELSEWHERE_IN_8_BITS = 1e-5, 0.02
"""By how much the scores of one artifact may differ on two machines, of the spread. In 8 bits the kernels of each
processor sum in their own order, and a rounding that falls the other way is a whole step."""


def elsewhere_limit(in_8_bits: bool) -> float:
    """By how much of the spread the same artifact may differ on another machine."""
    return ELSEWHERE_IN_8_BITS if in_8_bits else ELSEWHERE


@dataclass(frozen=True)
class ImageResult:
    """The comparison of one image; None where something was not compared. Top classes are (class index, score), highest
    first."""

    name: str
    tensor_difference_grey_levels: float | None
    model_difference_of_spread: float | None
    end_to_end_difference_of_spread: float | None
    recorded_top: tuple[tuple[int, float], ...]
    artifact_top: tuple[tuple[int, float], ...]

    @property
    def score_difference(self) -> float:
        """Of the spread: end to end if that was compared, else of the model alone."""
        end, model = self.end_to_end_difference_of_spread, self.model_difference_of_spread
        return end if end is not None else (model or 0.0)

    @property
    def sort_key(self) -> tuple[float, float]:
        """The difference of scores, then of tensors."""
        return self.score_difference, self.tensor_difference_grey_levels or 0.0


@dataclass(frozen=True)
class Match:
    """The whole result. unreadable: (name, reason) of recorded images that cannot be read here. not_checked: sentences
    on comparisons that were not made. spread: largest minus smallest recorded score. ties: see
    `compare.ScoreComparison`.

    cause: the changes of the inlet with which gate A passes, if A failed and they were found. changed_top_1: on how
    many images the top-1 class differs from the recording with the given inlet, and with the corrected one.
    score_cause: a sentence on how the scores differ, if B failed and it is known. departure: the first layer that
    differs, if B failed and layers were recorded. model: the scores on the recorded tensors. label_cause: a sentence on
    how the class names differ, if L failed.
    """

    gates: tuple[Gate, ...]
    images: tuple[ImageResult, ...]
    ties: tuple[str, ...]
    unreadable: tuple[tuple[str, str], ...]
    not_checked: tuple[str, ...]
    notes: tuple[str, ...]
    spread: float
    cause: Cause | None = None
    changed_top_1: tuple[int, int] | None = None
    score_cause: str | None = None
    departure: Departure | None = None
    label_cause: str | None = None
    model: ScoreComparison | None = None

    @property
    def passes(self) -> bool:
        """Whether every gate passes."""
        return all(gate.passes for gate in self.gates)
