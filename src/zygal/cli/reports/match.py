"""The report of zygal match."""

from __future__ import annotations

from zygal.cli.reports.verdict import FAILED, show_gates, show_verdict
from zygal.cli.tables import show_sentence, show_table
from zygal.commands.match.outcome import MatchOutcome
from zygal.naming import class_name
from zygal.wording import clean_sentence, counted, short_number

NARROW = 100
"""On a terminal of fewer columns the top classes are shown without their scores."""


def show(out, outcome: MatchOutcome) -> None:
    """Gates, the images that differ most, the verdict, and likely causes."""
    request, found = outcome.request, outcome.found
    show_sentence(
        out,
        f"{outcome.subject if request.endpoint else f'{request.artifact} on {outcome.runtime}'}, compared with "
        f"{request.witness} ({counted(outcome.recorded, 'image')}, {outcome.framework})",
    )
    out.print()
    show_gates(out, outcome.gates)
    if outcome.shrunk:
        _show_shrunk(out, outcome)
    worst = found.images[: request.worst]
    if worst:
        _show_worst(out, worst, outcome.labels)
    if found.ties:
        show_sentence(
            out,
            f"Ties (changed top-1, but on both sides the two scores differ by no more than float32 rounding): "
            f"{', '.join(found.ties)}.",
        )
    show_verdict(out, outcome, f" on {counted(outcome.compared, 'image')}")
    for sentence in found.not_checked:
        show_sentence(out, clean_sentence(sentence), "yellow")
    if outcome.diagnosis:
        show_sentence(out, outcome.diagnosis, FAILED)
    for sentence in outcome.likely_causes:
        show_sentence(out, sentence)


def _show_shrunk(out, outcome: MatchOutcome) -> None:
    """What the artifact is, and its differences next to the limits of float artifacts, which it need not keep."""
    shrunk, request = outcome.shrunk, outcome.request
    show_sentence(
        out,
        f"The artifact was made from {shrunk.artifact} in {shrunk.precision} ({shrunk.settings}; "
        f"{counted(shrunk.images, 'image')}).",
    )
    for name, field, limit in (
        ("B", "model_difference_of_spread", request.model_limit),
        ("C", "end_to_end_difference_of_spread", request.end_limit),
    ):
        found = [value for image in outcome.found.images if (value := getattr(image, field)) is not None]
        if found:
            show_sentence(
                out,
                f"{name}: its scores differ by up to {short_number(max(found))} of the spread; a float "
                f"artifact's limit, {short_number(limit)}, does not apply.",
            )
    out.print()


def _show_worst(out, worst, labels) -> None:
    tops = [
        [[(class_name(i, labels), score) for i, score in top] for top in (each.recorded_top, each.artifact_top)]
        for each in worst
    ]
    widths = [max(len(label) for ranks in column for label, _ in ranks) for column in zip(*tops)]
    rows = []
    for image, columns in zip(worst, tops):
        levels = image.tensor_difference_grey_levels
        texts = [
            "\n".join(label if out.width < NARROW else f"{label:<{width}} {score:7.3f}" for label, score in ranks)
            for ranks, width in zip(columns, widths)
        ]
        rows.append(
            [image.name, *texts, "-" if levels is None else short_number(levels), short_number(image.score_difference)]
        )
    columns = ["largest differences", "recorded top 3", "artifact top 3", "tensor:\ngrey levels", "scores:\nof spread"]
    show_table(out, columns, rows, left=3)
