"""What zygal inlet recover found."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import TYPE_CHECKING, Any, ClassVar

from zygal.commands.recover.request import RecoverRequest
from zygal.outcome import Outcome
from zygal.wording import short_number

if TYPE_CHECKING:
    from zygal.inlet import Inlet
    from zygal.inlet.recovery.by_scores import ScoreRecovery
    from zygal.inlet.recovery.recover import Recovery


EXACT = 0.02
"""Grey levels below which an inlet gives the recorded tensors but for float32 rounding."""


NOISE_GREY_LEVELS = 3.0
"""Mean difference above which the best inlet is no finding."""


@dataclass(frozen=True, kw_only=True)
class RecoverOutcome(Outcome):
    """Exactly one of by_tensors and by_scores is there. The inlet is written only if the gate passes."""

    kind: ClassVar[str] = "zygal.inlet-recover"

    request: RecoverRequest
    by_tensors: Recovery | None = None
    by_scores: ScoreRecovery | None = None

    @property
    def inlet(self) -> Inlet:
        """The inlet that was found, by tensors or by scores."""
        return (self.by_tensors or self.by_scores).inlet

    @property
    def match_quality(self) -> str:
        """How good the recovered inlet is, in one word or two."""
        residual = self.by_tensors.residual
        return "exact" if residual < EXACT else "within rounding" if not self.failed_gates else "not exact"

    @property
    def found_nothing(self) -> bool:
        """Whether the best inlet fits so badly that it is no finding: its constants were bent to absorb an error."""
        found = self.by_tensors
        nothing = found is not None and not any(each.explained for each in found.per_image)
        return nothing and found.mean_residual > NOISE_GREY_LEVELS

    @property
    def conclusions(self) -> tuple[str, ...]:
        """See `Outcome.conclusions`."""
        if not self.found_nothing:
            return ()
        left = short_number(self.by_tensors.mean_residual)
        return (f"No inlet was found: the nearest that was tried leaves {left} grey levels on average.",)

    def result(self) -> dict[str, Any]:
        """See `Outcome.result`."""
        found = self.by_tensors or self.by_scores
        return {
            "witness": self.request.witness,
            "images_from": self.request.images,
            "inlet": asdict(found.inlet),
            "images": found.images,
            "inlets_tried": found.tried,
            "by_tensors": self._by_tensors() if self.by_tensors else None,
            "by_scores": self._by_scores() if self.by_scores else None,
        }

    def _by_tensors(self) -> dict[str, Any]:
        found = self.by_tensors
        second = found.runner_up
        return {
            "max_error_grey_levels": found.residual,
            "mean_error_grey_levels": found.mean_residual,
            "second_best": second and dict(zip(("field", "value", "max_error_grey_levels"), second)),
            "images_held_back": len(found.held),
            "held_back_max_error_grey_levels": max((each.largest for each in found.held), default=None),
            "not_determined": [asdict(each) for each in found.undecided],
            "library": found.library,
            "error_of_999_in_1000_grey_levels": found.nearly_all,
            "per_image": [
                {
                    "image": each.image,
                    "file_kind": each.kind,
                    "max_error_grey_levels": each.largest,
                    "mean_error_grey_levels": each.mean,
                    "share_above_half_a_level": each.share,
                    "where": each.where,
                    "explained": each.explained,
                }
                for each in found.per_image
            ],
            "groups": [
                {
                    "images": list(each.images),
                    "inlet": each.inlet and asdict(each.inlet),
                    "separated_by": each.separated_by,
                    "changes": [
                        {"field": name, "first_group": str(one), "this_group": str(other)}
                        for name, one, other in each.changes
                    ],
                }
                for each in found.groups
            ],
        }

    def _by_scores(self) -> dict[str, Any]:
        found = self.by_scores
        second = found.runner_up
        return {
            "max_error_of_spread": found.largest,
            "mean_error_of_spread": found.mean,
            "changed_top_1": found.changed_top_1,
            "images_held_back": found.held,
            "held_back_max_error_of_spread": found.held_largest,
            "second_best": second and {"inlet": asdict(second[0]), "mean_error_of_spread": second[1]},
        }
