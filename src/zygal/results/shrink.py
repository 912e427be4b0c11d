"""The JSON result of zygal shrink."""

from __future__ import annotations

from typing import Annotated, Literal, TypedDict

from zygal.results.common import MISSING


class ShrinkBudget(TypedDict):
    agree: Annotated[float | None, "least share of images with the same top-1 class", MISSING]
    lose: Annotated[float | None, "largest loss of accuracy, a share", MISSING]
    speed: Annotated[float | None, "least speed, times the float artifact's", MISSING]


class ShrinkEstimate(TypedDict):
    """a share with its 95 % confidence interval"""

    value: float
    low: float
    high: float


class ShrinkSpeedTimesFloat(TypedDict):
    value: Annotated[float, MISSING]
    low: Annotated[float, MISSING]
    high: Annotated[float, MISSING]


class ShrinkPoint(TypedDict):
    """one choice of the operators that stay in float"""

    name: Annotated[str, "how many operators stay in float"]
    kept_in_float: Annotated[list[str], "their layers and operators"]
    top_1_agreement: ShrinkEstimate
    top_1_agreement_expected: ShrinkEstimate
    score_error_of_spread: Annotated[float, "root mean squared difference of the scores, as a share of their spread"]
    accuracy_lost: Annotated[float | None, "accuracy of the float artifact minus its own, on the labelled images"]
    speed_times_float: Annotated[ShrinkSpeedTimesFloat | None, "how many times as fast as the float artifact"]
    bytes: Annotated[int, "size of the file"]


class ShrinkLayers(TypedDict):
    layer: Annotated[str, "what makes it, by the names of the training code"]
    operator: str
    score_error_alone_of_spread: Annotated[float, "score error if it alone is stored"]
    seconds_in_8_bits: float
    seconds_in_float: float


class Shrink(TypedDict):
    artifact: Annotated[str, "the float artifact"]
    shrunk: Annotated[str | None, "the file that was written"]
    precision: Annotated[Literal["8 bits", "float16 weights"], "what was made"]
    calibrated_on: Annotated[str, "the images, in words"]
    images: Annotated[int, "number of images"]
    budget: Annotated[ShrinkBudget, "what had to hold", MISSING]
    batch_images: Annotated[int, "batch size at which the speed was measured", MISSING]
    processor_8_bit_instructions: Annotated[
        list[str], "instructions of this processor that add 8-bit products in 32 bits", MISSING
    ]
    activations: Annotated[Literal["uint8", "int8"], "how activations are stored", MISSING]
    weight_bits: Annotated[int, "bits of a stored weight", MISSING]
    channels_equalised: Annotated[bool, "whether channels were equalised across layers", MISSING]
    float_bytes: Annotated[int, "size of the float artifact"]
    operators_in_8_bits: Annotated[int, "operators that compute in 8 bits", MISSING]
    layers_in_float: Annotated[list[str], "convolutions and matrix products that stay in float", MISSING]
    chosen: Annotated[ShrinkPoint | None, MISSING]
    nearest: Annotated[ShrinkPoint | None, MISSING]
    candidates: Annotated[list[ShrinkPoint], "all that were tried", MISSING]
    layers: Annotated[list[ShrinkLayers], "every value that can be stored, in order", MISSING]
    clipped_share_of_values: Annotated[
        dict[str, float], "by layer, the share of the values that storing clips", MISSING
    ]
    largest_change_of_a_range_by_half_the_images: Annotated[
        float, "how much one range would differ, had only half of the images been there", MISSING
    ]
    top_1_agreement: Annotated[ShrinkEstimate, MISSING]
    score_error_of_spread: Annotated[float, "of float16 weights: root mean squared difference", MISSING]
    largest_difference_of_spread: Annotated[float, "of float16 weights: largest difference of the scores", MISSING]
    bytes: Annotated[int, "of float16 weights: size of the file", MISSING]
