"""Gates of shares that are estimated on images: they are decided only if the whole interval lies on one side of the
limit."""

from __future__ import annotations

import math

from zygal.outcome import Gate
from zygal.statistics.intervals import Estimate, Z, images_in_words, images_to_decide
from zygal.tally.calibration import FEWEST, Calibration


def share_gate(name: str, condition: str, estimate: Estimate, limit: float, images: int) -> Gate:
    """A share that must be at least `limit`."""
    return Gate(
        name,
        condition,
        estimate.value,
        limit,
        "share",
        at_least=True,
        low=estimate.low,
        high=estimate.high,
        deciding=images_in_words(images_to_decide(estimate.value, limit), images),
    )


def lost_gate(name: str, condition: str, lost: Estimate, limit: float, images: int) -> Gate:
    """Accuracy lost to another model on the same images, at most `limit`."""
    return Gate(
        name,
        condition,
        lost.value,
        limit,
        "share",
        low=lost.low,
        high=lost.high,
        deciding=images_in_words(_images_of_pairs(lost, limit, images), images),
    )


def calibration_gate(name: str, calibration: Calibration, limit: float) -> Gate:
    """The expected calibration error without what chance adds. Where the images show no difference from a perfectly
    calibrated model, that figure is judged; else its interval."""
    measured, condition = calibration.corrected_error, "expected calibration error, corrected for chance"
    if calibration.fits and measured <= limit:
        return Gate(name, condition, measured, limit, "share")
    more = f"at least {FEWEST} images" if calibration.images < FEWEST else "more images"
    return Gate(
        name,
        condition,
        measured,
        limit,
        "share",
        low=calibration.low,
        high=calibration.high,
        deciding=f"{more} would narrow the interval",
    )


def _images_of_pairs(lost: Estimate, limit: float, images: int) -> int | None:
    """The interval of a difference narrows with the root of the number of images; one of predictions that never differ,
    with the number (`intervals.difference_of_paired`)."""
    away = abs(limit - lost.value)
    if away == 0:
        return None
    reach = (lost.high if limit > lost.value else 2 * lost.value - lost.low) - lost.value
    never = Z * math.sqrt(2) / (images + 2)
    power = 1 if reach <= never * 1.001 else 2
    return math.ceil(images * (reach / away) ** power)
