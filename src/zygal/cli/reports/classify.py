"""The report of zygal classify."""

from __future__ import annotations

from collections.abc import Sequence

from zygal.cli.tables import show_sentence, show_table
from zygal.commands.classify.outcome import ClassifyOutcome
from zygal.wording import counted, grouped, percent, rate


def show(out, outcome: ClassifyOutcome) -> None:
    """A table of predictions, or what was written, or what supports the prediction; then the counts."""
    if outcome.maps:
        _show_maps(out, outcome)
        return
    if outcome.output is None:
        _show_predictions(out, outcome)
    elif outcome.disagreements:
        _show_disagreements(out, outcome)
    show_sentence(out, totals(outcome), "bold")


def totals(outcome: ClassifyOutcome) -> str:
    """The last line: how many images, and what about them."""
    counts = outcome.counts
    if outcome.numbers is not None:
        left = (
            f"; {counted(counts['unreadable'], 'image')} could not be read (exit code {outcome.exit_code})"
            if counts["unreadable"]
            else ""
        )
        return f"{outcome.output}: {counted(counts['read'], 'vector')} of {outcome.numbers} numbers{left}."
    parts = [
        counted(outcome.images, "image"),
        f"{grouped(counts['uncertain'])} {'without a label' if outcome.multi_label else 'uncertain'}",
    ]
    if outcome.compared:
        parts.append(f"{grouped(counts['disagreements'])} on which the models disagree")
    if counts["unreadable"]:
        parts.append(f"{grouped(counts['unreadable'])} could not be read (exit code {outcome.exit_code})")
    workers = f" on {counted(outcome.cluster.workers, 'worker')}" if outcome.cluster else ""
    speed = f"; {rate(outcome.images_per_second)} images/s{workers}" if outcome.images_per_second else ""
    lead = f"{outcome.output}: " if outcome.output else ""
    return f"{lead}{', '.join(parts)}{speed}."


def _show_predictions(out, outcome: ClassifyOutcome) -> None:
    compared = f", compared with {outcome.compared} on {outcome.compared_engine}" if outcome.compared else ""
    show_sentence(out, f"{outcome.artifact} on {outcome.engine}{compared}")
    out.print()
    readable = [each for each in outcome.predictions if each.error is None]
    readable.sort(key=lambda each: not each.disagree)
    marks = outcome.multi_label or any(each.uncertain for each in readable)
    columns = ["image", "predicted", "probability", "score"]
    columns += ["labels" if outcome.multi_label else ""] if marks else []
    columns += ["compared model", "probability "] if outcome.compared else []
    if readable:
        show_table(out, columns, [_row(each, marks) for each in readable], left=2, optional=("probability ", "score"))


def _row(prediction, marks: bool) -> list:
    from rich.text import Text

    cells = [
        prediction.path,
        "\n".join(ranked.name for ranked in prediction.top),
        "\n".join(percent(ranked.probability) for ranked in prediction.top),
        "\n".join(f"{ranked.score:.3f}" for ranked in prediction.top),
    ]
    if marks and prediction.labels is not None:
        cells.append(Text(", ".join(prediction.labels) or "no label", style="" if prediction.labels else "yellow"))
    elif marks:
        cells.append(Text("uncertain" if prediction.uncertain else "", style="yellow"))
    if prediction.other:
        style = "bold red" if prediction.disagree else ""
        cells += [Text(_predicted_by_other(prediction), style=style), percent(prediction.other.probability)]
    return cells


def _predicted_by_other(prediction) -> str:
    if prediction.other_labels is not None:
        return ", ".join(prediction.other_labels) or "no label"
    return prediction.other.name


def _show_disagreements(out, outcome: ClassifyOutcome) -> None:
    scope = " (of the rows of this run)" if outcome.resumed else ""
    show_sentence(out, f"Disagreements of {outcome.artifact} and {outcome.compared}{scope}, most confident first:")
    rows: list[Sequence[str]] = [
        [
            each.path,
            ", ".join(each.labels) if each.labels is not None else each.top[0].name,
            percent(each.top[0].probability),
            _predicted_by_other(each),
            percent(each.other.probability),
        ]
        for each in outcome.disagreements
    ]
    show_table(
        out,
        ["image", "predicted", "probability", "compared model", "probability "],
        rows,
        left=2,
        optional=("probability ",),
    )


def _show_maps(out, outcome: ClassifyOutcome) -> None:
    for each in outcome.maps:
        found = each.found
        height, width = found.weight.shape
        row, column = divmod(int(found.weight.argmax()), width)
        show_sentence(
            out,
            f"{each.name}: {found.predicted} {percent(found.probability)}. With one patch covered the lowest "
            f"probability is {percent(found.lowest)}. The strongest support is at x = {column}, y = {row} of {width} x "
            f"{height} pixels.",
        )
    if outcome.maps_differ_log_odds is not None:
        largest = float(abs(outcome.maps[0].found.weight).max())
        show_sentence(
            out,
            f"The two maps differ by at most {outcome.maps_differ_log_odds:.2g} log-odds (largest value "
            f"{largest:.2g}).",
        )
    show_sentence(out, f"Drawn: {', '.join(outcome.written)}.")
