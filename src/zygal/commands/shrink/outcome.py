"""What zygal shrink found."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import TYPE_CHECKING, Any, ClassVar

from zygal.commands.shrink.request import ShrinkRequest
from zygal.outcome import Outcome

if TYPE_CHECKING:
    from zygal.shrink.choose import Budget, Point
    from zygal.shrink.given import Given
    from zygal.shrink.half import Halved
    from zygal.shrink.shrink import Result


@dataclass(frozen=True, kw_only=True)
class ShrinkOutcome(Outcome):
    """budget: what had to hold. found: of 8 bits; halved: of float16 weights. given: the images. instructions: the
    processor's 8-bit instructions, in words."""

    kind: ClassVar[str] = "zygal.shrink"

    request: ShrinkRequest
    budget: Budget | None
    found: Result | None
    halved: Halved | None
    given: Given
    instructions: tuple[str, ...]

    @property
    def final(self) -> Point | None:
        """What was chosen; None with --half."""
        return self.found.choice.final if self.found else None

    @property
    def conclusions(self) -> tuple[str, ...]:
        """See `Outcome.conclusions`."""
        if self.final is None or not self.final.speed or self.final.speed.value >= 1:
            return ()
        return (
            "8 bits do not pay here: the float artifact is faster on this machine at this batch size. Keep it, or try "
            "--batch 8.",
        )

    def result(self) -> dict[str, Any]:
        """See `Outcome.result`."""
        from zygal.classifier.metadata import EIGHT_BITS, HALF

        request = self.request
        common = {
            "artifact": request.artifact,
            "shrunk": request.output if self.refusal is None else None,
            "precision": HALF if self.halved else EIGHT_BITS,
            "calibrated_on": self.given.where,
            "images": len(self.given.tensors),
        }
        if self.halved:
            return common | asdict(self.halved)
        found = self.found
        return common | {
            "budget": asdict(self.budget),
            "batch_images": request.batch,
            "processor_8_bit_instructions": list(self.instructions),
            "activations": str(found.form.dtype),
            "weight_bits": found.form.weight_bits,
            "channels_equalised": found.equalised,
            "float_bytes": found.float_bytes,
            "chosen": self._point(found.choice.final),
            "nearest": self._point(found.choice.nearest),
            "candidates": [self._point(point) for point in found.choice.points],
            "layers": [
                {
                    "layer": layer.name,
                    "operator": layer.operator,
                    "score_error_alone_of_spread": layer.damage,
                    "seconds_in_8_bits": layer.seconds,
                    "seconds_in_float": layer.float_seconds,
                }
                for layer in found.layers
            ],
            "operators_in_8_bits": found.in_8_bits,
            "layers_in_float": list(found.kept),
            "clipped_share_of_values": dict(found.clipped),
            "largest_change_of_a_range_by_half_the_images": max(found.moved, default=0.0),
        }

    def _point(self, point: Point | None) -> dict[str, Any] | None:
        if point is None:
            return None
        return {
            "name": point.name,
            "kept_in_float": list(point.kept),
            "top_1_agreement": asdict(point.agreement),
            "top_1_agreement_expected": asdict(point.expected),
            "score_error_of_spread": point.error,
            "accuracy_lost": point.lost,
            "speed_times_float": point.speed
            and {"value": point.speed.value, "low": point.speed.low, "high": point.speed.high},
            "bytes": point.size_bytes,
        }
