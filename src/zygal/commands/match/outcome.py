"""What zygal match found."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import TYPE_CHECKING, Any, ClassVar

from zygal.commands.match.request import MatchRequest
from zygal.commands.match.sentences import departure_sentence, inlet_sentences, rounding_sentence, shares_sentence
from zygal.naming import class_name
from zygal.outcome import Outcome
from zygal.wording import clean_sentence

if TYPE_CHECKING:
    from zygal.classifier.metadata import Shrunk
    from zygal.evidence.result import Match
    from zygal.evidence.rounding import OwnRounding


@dataclass(frozen=True, kw_only=True)
class MatchOutcome(Outcome):
    """runtime: what ran the artifact. recorded: images in the witness. framework: what was recorded. found: the
    comparison."""

    kind: ClassVar[str] = "zygal.match"

    request: MatchRequest
    runtime: str
    recorded: int
    framework: str
    labels: tuple[str, ...] | None
    found: Match
    shrunk: Shrunk | None = None
    service_cause: str | None = None
    one_origin: bool = False
    rounding: OwnRounding | None = None

    @property
    def subject(self) -> str:
        """What was checked, as the user called it."""
        return self.request.endpoint or self.request.artifact

    @property
    def compared(self) -> int:
        """How many images were compared: by their files where any was, else by their recorded tensors."""
        by_file = [
            each
            for each in self.found.images
            if (each.tensor_difference_grey_levels, each.end_to_end_difference_of_spread) != (None, None)
        ]
        return len(by_file or self.found.images)

    @property
    def diagnosis(self) -> str | None:
        """Where the fault is, by which of the comparisons failed."""
        failed = {gate.name for gate in self.failed_gates}
        if {"A", "B"} <= failed:
            return "Both the inlet and the artifact differ from the training side."
        if "A" in failed:
            model = "" if "B" not in {gate.name for gate in self.gates} else " The model itself (B) is right."
            return "The inlet differs from the preprocessing of the training side." + model
        if self.shrunk is not None and failed & {"B", "C"}:
            return (
                f"The artifact in {self.shrunk.precision} answers otherwise than the recorded model; compare the "
                f"float artifact {self.shrunk.artifact} first, then shrink it with a stricter budget."
            )
        if self.request.endpoint and failed & {"B", "C", "E"}:
            return (
                "The service gives other scores than were recorded."
                if "B" in failed or "C" in failed
                else "The service gives other scores than the artifact."
            )
        if failed == {"V"}:
            return "Another version of the model answers than was asked for."
        if "B" in failed and self.rounding is not None and not self.rounding.by_conversion:
            return None
        if "B" in failed:
            return "The artifact is not the recorded model, or its conversion is wrong."
        if "C" in failed and "A" not in {gate.name for gate in self.gates}:
            return (
                "The inlet or the model differs from the training side; the witness holds no tensors, so the two "
                "cannot be told apart."
            )
        if failed == {"L"}:
            return "The artifact gives the recorded scores, but names the classes differently."
        return None

    @property
    def likely_causes(self) -> list[str]:
        """Sentences on the likely causes of failed gates."""
        found, sentences = self.found, []
        if found.cause:
            sentences += inlet_sentences(found)
            if self.request.write_inlet:
                sentences.append(f"The corrected inlet is in {self.request.write_inlet}.")
        elif any(gate.name == "A" for gate in self.failed_gates):
            sentences.append("Likely cause: not found. No inlet that was tried gives the recorded tensors.")
        if self.service_cause:
            sentences.append(f"Likely cause: {clean_sentence(self.service_cause)}")
        elif found.score_cause:
            said = (
                found.score_cause.replace("the artifact", "the service") if self.request.endpoint else found.score_cause
            )
            sentences.append(f"Likely cause: {clean_sentence(said)}")
        if self.rounding and "B" in {gate.name for gate in self.failed_gates}:
            sentences.append(rounding_sentence(self.rounding))
        if found.label_cause:
            sentences.append(f"Likely cause: {clean_sentence(found.label_cause)}")
        if self.shrunk and self.shrunk.shares and {"B", "C"} & {gate.name for gate in self.failed_gates}:
            sentences.append(shares_sentence(self.shrunk))
        if found.departure:
            sentences.append(departure_sentence(found.departure))
        return sentences

    def result(self) -> dict[str, Any]:
        """See `Outcome.result`."""
        found, request = self.found, self.request
        return {
            "artifact": request.artifact,
            "endpoint": request.endpoint,
            "witness": request.witness,
            "images_from": request.images,
            "inlet_from": request.inlet,
            "runtime": self.runtime,
            "framework": self.framework,
            "images_recorded": self.recorded,
            "images_compared": self.compared,
            "spread_of_recorded_scores": found.spread,
            "shrunk": self.shrunk and asdict(self.shrunk),
            "limits": {
                "tensor_grey_levels": request.tensor_limit,
                "model_of_spread": request.model_limit,
                "end_to_end_of_spread": request.end_limit,
                **(
                    {"top_1_agreement": request.agree_limit, "order_of_scores": request.order_limit}
                    if self.shrunk
                    else {}
                ),
            },
            "diagnosis": self.diagnosis,
            "likely_causes": self.likely_causes,
            "images": [
                asdict(image)
                | {
                    name: [self._top(each) for each in getattr(image, name)]
                    for name in ("recorded_top", "artifact_top")
                }
                for image in found.images
            ],
            "inlet_cause": self._cause(),
            "score_cause": found.score_cause,
            "first_differing_layer": found.departure and asdict(found.departure),
            "label_cause": found.label_cause,
            "service_cause": self.service_cause,
            "own_rounding": self.rounding and asdict(self.rounding),
            "inlet_recovered_on_these_images": self.one_origin,
            "ties": list(found.ties),
            "not_checked": list(found.not_checked),
        }

    def _top(self, entry: tuple[int, float]) -> dict[str, Any]:
        index, score = entry
        return {"class_index": index, "label": class_name(index, self.labels), "score": score}

    def _cause(self) -> dict[str, Any] | None:
        cause = self.found.cause
        if cause is None:
            return None
        before, after = self.found.changed_top_1 or (None, None)
        return {
            "findings": list(cause.findings),
            "largest_difference_before_grey_levels": cause.residual_before,
            "largest_difference_after_grey_levels": cause.residual_after,
            "changed_top_1_before": before,
            "changed_top_1_after": after,
            "corrected_inlet": asdict(cause.inlet),
        }
