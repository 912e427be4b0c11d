"""The report of zygal match."""

from __future__ import annotations

from zygal.cli.reports.verdict import FAILED, show_gates, show_verdict
from zygal.cli.tables import show_sentence, show_table
from zygal.commands.match import MatchOutcome
from zygal.naming import class_name
from zygal.wording import clean_sentence, counted, percent, short_number

NARROW = 100
"""On a terminal of fewer columns the top classes are shown without their scores."""


def show(out, outcome: MatchOutcome) -> None:
    """Gates, the images that differ most, the verdict, and likely causes."""
    request, found = outcome.request, outcome.found
    show_sentence(out, f"{request.artifact} on {outcome.runtime}, compared with {request.witness} "
                       f"({counted(outcome.recorded, 'image')}, {outcome.framework})")  # fmt: skip
    out.print()
    show_gates(out, outcome.gates)
    if outcome.shrunk:
        _show_shrunk(out, outcome)
    worst = found.images[: request.worst]
    if worst:
        _show_worst(out, worst, outcome.labels)
    if found.ties:
        show_sentence(out, f"Ties (changed top-1, but on both sides the two scores differ by no more than float32 rounding): {', '.join(found.ties)}.")
    show_verdict(out, outcome, f" on {counted(outcome.compared - outcome.inputs_unreadable, 'image')}")
    for sentence in found.not_checked:
        show_sentence(out, clean_sentence(sentence), "yellow")
    if outcome.diagnosis:
        show_sentence(out, outcome.diagnosis, FAILED)
    for sentence in causes(outcome):
        show_sentence(out, sentence)


def _show_shrunk(out, outcome: MatchOutcome) -> None:
    """What the artifact is, and its differences next to the limits of float artifacts, which it need not keep."""
    shrunk, request = outcome.shrunk, outcome.request
    show_sentence(out, f"The artifact was made from {shrunk.artifact} in {shrunk.precision} ({shrunk.settings}; {counted(shrunk.images, 'image')}).")
    for name, field, limit in (("B", "model_difference_of_spread", request.model_limit), ("C", "end_to_end_difference_of_spread", request.end_limit)):
        found = [value for image in outcome.found.images if (value := getattr(image, field)) is not None]
        if found:
            show_sentence(out, f"{name}: its scores differ by up to {short_number(max(found))} of the spread; a float artifact's limit, {short_number(limit)}, does not apply.")
    out.print()


def _shares(shrunk) -> str:
    """The layers that add most to the error."""
    largest = [f"{share.layer} {percent(share.share)}" for share in shrunk.shares[:5]]
    return f"Shares of the error, as they were measured when it was shrunk: {', '.join(largest)}."


def causes(outcome: MatchOutcome) -> list[str]:
    """Sentences on the likely causes of failed gates."""
    found, sentences = outcome.found, []
    if found.cause:
        sentences += _inlet_causes(found)
        if outcome.request.write_inlet:
            sentences.append(f"The corrected inlet is in {outcome.request.write_inlet}.")
    elif any(gate.name == "A" for gate in outcome.failed_gates):
        sentences.append("Likely cause: not found. No inlet that was tried gives the recorded tensors.")
    if found.score_cause:
        sentences.append(f"Likely cause: {clean_sentence(found.score_cause)}")
    if found.label_cause:
        sentences.append(f"Likely cause: {clean_sentence(found.label_cause)}")
    if outcome.shrunk and outcome.shrunk.shares and {"B", "C"} & {gate.name for gate in outcome.failed_gates}:
        sentences.append(_shares(outcome.shrunk))
    departure = found.departure
    if departure and departure.layer is None:
        sentences.append(
            f"Likely cause: the step behind layer {departure.before}. All {counted(departure.compared, 'layer')} that were compared agree."
        )
    elif departure:
        before = f" All layers up to {departure.before} agree." if departure.before else ""
        sentences.append(
            f"Likely cause: layer {departure.layer} is the first whose output differs, by {short_number(departure.difference)} of "
            f"its recorded range.{before} {counted(departure.compared, 'layer')} compared."
        )
    return sentences


def _inlet_causes(found) -> list[str]:
    cause = found.cause
    lead = "Likely cause:" if len(cause.findings) == 1 else "Likely causes:"
    listed = cause.findings if len(cause.findings) == 1 else [f"({n}) {each}" for n, each in enumerate(cause.findings, 1)]
    after = f"{short_number(cause.residual_after)} grey levels"
    if cause.residual_before is None:
        effect = f"Then the tensors have the recorded shape, and the largest difference is {after}"
    else:
        effect = f"Fixing it lowers the largest difference from {short_number(cause.residual_before)} to {after}"
    if found.changed_top_1:
        effect += ", and the number of changed top-1 classes from {} to {}".format(*found.changed_top_1)
    return [f"{lead} {'; '.join(listed)}.", f"{effect}."]


def _show_worst(out, worst, labels) -> None:
    tops = [[[(class_name(i, labels), score) for i, score in top] for top in (each.recorded_top, each.artifact_top)] for each in worst]
    widths = [max(len(label) for ranks in column for label, _ in ranks) for column in zip(*tops)]
    rows = []
    for image, columns in zip(worst, tops):
        levels = image.tensor_difference_grey_levels
        texts = [
            "\n".join(label if out.width < NARROW else f"{label:<{width}} {score:7.3f}" for label, score in ranks)
            for ranks, width in zip(columns, widths)
        ]
        rows.append([image.name, *texts, "-" if levels is None else short_number(levels), short_number(image.score_difference)])
    columns = ["largest differences", "recorded top 3", "artifact top 3", "tensor:\ngrey levels", "scores:\nof spread"]
    show_table(out, columns, rows, left=3)
