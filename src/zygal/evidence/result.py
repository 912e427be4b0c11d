"""What a match finds: gates, images, and causes."""

from __future__ import annotations

from dataclasses import dataclass

from zygal.evidence.causes import Cause
from zygal.evidence.layers import Departure


@dataclass(frozen=True)
class Limits:
    """tensor: grey levels. model and end_to_end: fractions of the spread of the recorded scores."""

    tensor: float = 0.5
    model: float = 1e-4
    end_to_end: float = 1e-2


@dataclass(frozen=True)
class Gate:
    """One condition. `measured` must not be above `limit`, both in `unit`; None means that it could not be measured."""

    comparison: str
    asks: str
    measured: float | None
    limit: float
    unit: str
    explanation: str = ""

    @property
    def passes(self) -> bool:
        return self.measured is not None and self.measured <= self.limit


@dataclass(frozen=True)
class ImageResult:
    """What was found for one image; None where it was not compared. Ranks are (class, score), best first."""

    name: str
    tensor_difference_grey_levels: float | None
    model_difference_of_spread: float | None
    end_to_end_difference_of_spread: float | None
    recorded_top: tuple[tuple[int, float], ...]
    artifact_top: tuple[tuple[int, float], ...]

    @property
    def score_difference(self) -> float:
        """Of the spread: what the user will see, or that of the model alone."""
        end, model = self.end_to_end_difference_of_spread, self.model_difference_of_spread
        return end if end is not None else (model or 0.0)

    @property
    def badness(self) -> tuple[float, float]:
        """For sorting: what the user will see first, then the tensors."""
        return self.score_difference, self.tensor_difference_grey_levels or 0.0


@dataclass(frozen=True)
class Match:
    """The whole result. `unread`: recorded images that cannot be read here. `not_checked`: sentences.

    `cause`: the edits of the inlet that mend gate A, if A broke and they were found, and `other_top_1`: on how many images
    another class is best with our inlet, and with the corrected one. `score_cause`: a sentence on how the scores differ, if
    B broke and it is known. `departure`: the first layer that departs, if B broke and layers were recorded.
    """

    gates: tuple[Gate, ...]
    images: tuple[ImageResult, ...]
    ties: tuple[str, ...]
    unreadable: tuple[tuple[str, str], ...]
    not_checked: tuple[str, ...]
    notes: tuple[str, ...]
    spread: float
    cause: Cause | None = None
    other_top_1: tuple[int, int] | None = None
    score_cause: str | None = None
    departure: Departure | None = None

    @property
    def passes(self) -> bool:
        return all(gate.passes for gate in self.gates)
