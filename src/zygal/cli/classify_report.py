"""How the answers of zygal classify look."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict
from typing import Any

from zygal.cli.output import counted, show_table
from zygal.wording import percent


def show_answers(out, answers: Sequence, inquiry) -> None:
    """A row an image with its highest classes, those on which two classifiers disagree first; then what has no answer."""
    from rich.text import Text

    first, beside = inquiry.classifier, inquiry.beside
    out.print(
        f"{first.path} on {first.engine_name}" + (f", beside {beside.path} on {beside.engine_name}" if beside else "")
    )
    out.print()
    answered = sorted((each for each in answers if each.fault is None), key=lambda answer: not answer.disagrees)
    marks = first.multi_label or any(answer.unsure for answer in answered)
    columns = ["image", "says", "probability", "score"]
    columns += ["gives" if first.multi_label else ""] if marks else []
    columns += ["the other", "probability"] if beside else []
    if answered:
        show_table(out, columns, [_row(each, marks, beside) for each in answered], left=2)
    for each in answers:
        if each.fault is not None:
            out.print(Text(f"no answer: {each.path}: {each.fault}", style="red"), soft_wrap=True)


def _row(answer, marks: bool, beside) -> list:
    from rich.text import Text

    cells = [
        answer.path,
        "\n".join(ranked.name for ranked in answer.top),
        "\n".join(percent(ranked.probability) for ranked in answer.top),
        "\n".join(f"{ranked.score:.3f}" for ranked in answer.top),
    ]
    if marks and answer.given is not None:
        cells.append(Text(", ".join(answer.given) or "no label", style="" if answer.given else "yellow"))
    elif marks:
        cells.append(Text("unsure" if answer.unsure else "", style="yellow"))
    if beside:
        style = "bold red" if answer.disagrees else ""
        cells += [Text(_said_by_other(answer), style=style), percent(answer.beside.probability)]
    return cells


def _said_by_other(answer) -> str:
    if answer.beside_given is not None:
        return ", ".join(answer.beside_given) or "no label"
    return answer.beside.name


def show_first_disagreements(out, worst: Sequence, inquiry, whole: bool) -> None:
    of = "" if whole else ", of the rows of this call"
    out.print(f"Where {inquiry.classifier.path} and {inquiry.beside.path} disagree{of}, the surest first:")
    rows = [[each.path, ", ".join(each.given) if each.given is not None else each.top[0].name,
             percent(each.top[0].probability), _said_by_other(each), percent(each.beside.probability)]
            for each in worst]  # fmt: skip
    show_table(out, ["image", "says", "probability", "the other says", "probability"], rows, left=2)


def totals_line(counts, rows: int, seconds: float, inquiry, done: int | None = None) -> str:
    """The closing line."""
    done = rows if done is None else done
    unsure = "without a label" if inquiry.classifier.multi_label else "unsure"
    parts = [counted(rows, "image"), f"{counts['unsure']} {unsure}"]
    if inquiry.beside:
        parts.append(f"{counts['disagreements']} on which the two disagree")
    if counts["faults"]:
        parts.append(f"{counts['faults']} could not be read (exit code 1)")
    rate = f"; {done / seconds:.1f} images a second" if done >= 20 else ""
    return ", ".join(parts) + rate + "."


def answers_document(inquiry, counts) -> dict[str, Any]:
    first, beside = inquiry.classifier, inquiry.beside
    return {
        "artifact": str(first.path),
        "engine": first.engine_name,
        "scores_are": first.kind,
        "labels": first.labels,
        "labels_order": first.labels_order,
        "beside": beside and str(beside.path),
        "limits": asdict(inquiry.limits),
        "counts": dict(counts),
    }
