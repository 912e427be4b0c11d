"""The JSON result of zygal match."""

from __future__ import annotations

from typing import Annotated, Literal, TypedDict

from zygal.classifier.metadata import Shrunk
from zygal.inlet.specification import Inlet
from zygal.results.common import MISSING


class MatchLimits(TypedDict):
    tensor_grey_levels: float
    model_of_spread: float
    end_to_end_of_spread: float
    top_1_agreement: Annotated[
        float, "of a shrunk artifact: least share of images with the recorded top-1 class", MISSING
    ]
    order_of_scores: Annotated[
        float, "of a shrunk artifact: least share of pairs of classes in the recorded order", MISSING
    ]


class MatchRecordedTop(TypedDict):
    class_index: int
    label: str
    score: float


class MatchImages(TypedDict):
    name: str
    tensor_difference_grey_levels: float | None
    model_difference_of_spread: float
    end_to_end_difference_of_spread: float | None
    recorded_top: list[MatchRecordedTop]
    artifact_top: list[MatchRecordedTop]


class MatchInletCause(TypedDict):
    findings: list[str]
    largest_difference_before_grey_levels: float
    largest_difference_after_grey_levels: float
    changed_top_1_before: int
    changed_top_1_after: int
    corrected_inlet: Inlet


class MatchFirstDifferingLayer(TypedDict):
    layer: str | None
    difference: float | None
    before: str | None
    compared: int


class MatchOwnRounding(TypedDict):
    images: int
    own: Annotated[float, "float32 against float64"]
    framework: Annotated[float, "the recorded scores against float64"]
    runtime: Annotated[float, "the artifact on its runtime against float64"]
    margin: Annotated[float, "scores that are closer, in their own unit, may come in another order on any machine"]
    conclusion: Annotated[
        Literal["rounding", "conversion", "runtime"],
        "rounding: the conversion is right; conversion: it is wrong or of another model; runtime: the runtime "
        "is less exact",
    ]


class Match(TypedDict):
    artifact: str | None
    endpoint: Annotated[str | None, "URL of the service that was checked"]
    witness: str
    images_from: str | None
    inlet_from: str | None
    runtime: str
    framework: str
    images_recorded: int
    images_compared: int
    spread_of_recorded_scores: float
    limits: MatchLimits
    diagnosis: str | None
    likely_causes: Annotated[list[str], "Sentences on the likely causes of failed gates."]
    images: list[MatchImages]
    inlet_cause: MatchInletCause | None
    score_cause: str | None
    first_differing_layer: MatchFirstDifferingLayer | None
    ties: list[str]
    not_checked: list[str]
    label_cause: str | None
    service_cause: Annotated[str | None, "a sentence on why a service gives other scores, if it is known"]
    shrunk: Annotated[Shrunk | None, "how the artifact was made, if it is in lower precision"]
    own_rounding: Annotated[
        MatchOwnRounding | None,
        "the artifact computed in float64 on some recorded tensors, where B fails or is near its limit; parts "
        "of the spread of the recorded scores",
    ]
    inlet_recovered_on_these_images: Annotated[bool, "then A and C prove little"]
