"""What follows from a tally, in sentences: calibration, what makes the metrics doubtful, and the comparison of two
models."""

from __future__ import annotations

from typing import TYPE_CHECKING

from zygal.tally.paired import BETTER, NOT_WORSE, SAME, WORSE
from zygal.wording import counted, percent, points

if TYPE_CHECKING:
    from zygal.tally.calibration import Calibration

MOST_EXCHANGED = 6


def calibration_sentence(calibration: Calibration, what: str) -> str:
    """How confidence and accuracy agree. what: of what, in words."""
    accuracy = calibration.accuracy
    if accuracy.low <= calibration.confidence <= accuracy.high:
        verdict = "No over- or underconfidence is detected"
    else:
        verdict = f"The model is {'over' if calibration.confidence > accuracy.value else 'under'}confident"
    return (
        f"Calibration of {what}: mean confidence {percent(calibration.confidence)}, accuracy {percent(accuracy.value)} "
        f"(95 % CI {percent(accuracy.low)} to {percent(accuracy.high)}). {verdict}. Expected calibration error "
        f"{calibration.expected_error:.4f} over {len(calibration.bins)} bins; on as many images, a perfectly "
        f"calibrated model stays below {calibration.by_chance:.4f} in three of four cases."
    )


def paired_sentences(paired, first: str, other: str) -> list[str]:
    """Which predictions differ, and whether the first is worse. Equal accuracy does not mean equal predictions."""
    if not paired.disagreements:
        same = f"{first} and {other} predict the same on all {counted(paired.images, 'image')}"
        few = f"; these are too few to rule out a loss of {-100 * paired.difference.low:.2f} points"
        return [same + ("" if paired.verdict == SAME else few) + "."]
    neither = paired.disagreements - paired.only_first - paired.only_other
    difference = paired.difference
    verdicts = {
        NOT_WORSE: f"{first} is not worse: a loss of more than {100 * paired.margin:g} points is ruled out",
        WORSE: f"{first} is worse",
        BETTER: f"{first} is better",
    }
    undecided = f"undecided: there are too few images to rule out a loss of {points(-difference.low, False)} points"
    return [
        f"The models disagree on {counted(paired.disagreements, 'image')} "
        f"({percent(paired.disagreements / paired.images)}): only {first} is correct on {paired.only_first}, only "
        f"{other} on {paired.only_other}, neither on {neither}.",
        f"Difference in accuracy {points(difference.value)} points (95 % CI {points(difference.low)} to "
        f"{points(difference.high)}, exact paired test p = {paired.p_value:.2g}): "
        f"{verdicts.get(paired.verdict, undecided)}.",
    ]


def warnings(found, worst: int) -> list[str]:
    """What makes the metrics doubtful, one sentence each."""
    sentences = []
    if found.exchange:
        moved = list(found.exchange.predicted_as.items())
        pairs = ", ".join(f"{true} is predicted as {predicted}" for true, predicted in moved[:MOST_EXCHANGED])
        more = f", and {len(moved) - MOST_EXCHANGED} more" if len(moved) > MOST_EXCHANGED else ""
        exchange = found.exchange
        how = f"off by {exchange.shift:+d}" if exchange.shift else "exchanged"
        how = "to be in reversed order" if exchange.reversed else how
        sentences.append(
            f"Warning: the labels of {counted(len(moved), 'class')} look {how} ({pairs}{more}). With these labels "
            f"corrected {found.exchange.correct_if_exchanged} of {found.images} images would be correct instead of "
            f"{found.exchange.correct}. Check the order of the labels in the artifact, or give the right order with "
            "--labels FILE."
        )
    duplicates = found.duplicates
    doubtful = set(duplicates.doubtful)
    for pairs, sure, doubt in (
        (
            duplicates.different_labels,
            "the same picture has two labels",
            "two labels for what may be one picture, or overlapping crops of one",
        ),
        (
            duplicates.in_training,
            "a labelled image is also a training image",
            "a labelled image may be a training image, or overlap with one",
        ),
    ):
        for one, other in pairs[:worst]:
            sentences.append(f"Warning: {doubt if (one, other) in doubtful else sure}: {one} and {other}.")
        if len(pairs) > worst:
            sentences.append(f"Warning: {sure}, or may be: {len(pairs) - worst} more pairs.")
    if duplicates.same_label:
        one, other = duplicates.same_label[0]
        number = counted(len(duplicates.same_label), "pair")
        unsure = sum(pair in doubtful for pair in duplicates.same_label)
        some = f" ({unsure} of them may be overlapping crops)" if unsure else ""
        sentences.append(
            f"Warning: {number} of labelled images show the same picture with the same label{some}, for example "
            f"{one} and {other}."
        )
    if duplicates.training_images and not duplicates.in_training:
        sentences.append(
            f"None of the labelled images is among the {counted(duplicates.training_images, 'training image')}, "
            f"by content."
        )
    return sentences
