"""The report of zygal tally. Details come first: what is read most stands at the end."""

from __future__ import annotations

from zygal.cli.reports.verdict import show_verdict
from zygal.cli.tables import show_sentence, show_table
from zygal.commands.tally.outcome import TallyOutcome
from zygal.tally.conclusions import calibration_sentence, paired_sentences, warnings
from zygal.tally.paired import BETTER, NOT_WORSE, SAME, WORSE
from zygal.wording import counted, percent

MOST_CLASSES = 20
_STYLES = {SAME: "bold green", NOT_WORSE: "bold green", BETTER: "bold green", WORSE: "bold red"}


def show(out, outcome: TallyOutcome) -> None:
    """Classes, confusion, calibration, groups, metrics, warnings, comparison, verdict."""
    found = outcome.found
    show_sentence(
        out,
        f"{outcome.artifact} on {outcome.engine}, {counted(found.images, 'image')} of {outcome.images} in "
        f"{counted(len(outcome.labels), 'class')} (class order: {outcome.labels_order or 'that of the artifact'})",
    )
    out.print()
    (_show_exclusive if found.exclusive else _show_multi_label)(out, outcome, outcome.worst)
    for line in warnings(found, outcome.worst):
        show_sentence(out, line, "yellow" if line.startswith("Warning") else "")
    if found.paired:
        for line in paired_sentences(found.paired, outcome.artifact, outcome.compared):
            show_sentence(out, line, _STYLES.get(found.paired.verdict, "bold"))
    if outcome.written:
        show_sentence(out, f"Drawn: {', '.join(outcome.written)}.")
    show_sentence(
        out, f"Accuracy {percent(found.accuracy.value)} (95 % CI {_interval(found.accuracy, percent)}).", "bold"
    )
    show_verdict(out, outcome)


def _show_exclusive(out, outcome: TallyOutcome, worst: int) -> None:
    found = outcome.found
    metrics, other = found.exclusive, found.other
    _show_classes(out, metrics, worst)
    if metrics.pairs:
        _show_pairs(out, metrics, worst)
    largest = max(metrics.classes, key=lambda each: each.support)
    smallest = min((each for each in metrics.classes if each.support), key=lambda each: each.support)
    balance = f"{smallest.support} ({smallest.name}) to {largest.support} ({largest.name}) images per class"
    if smallest.support == largest.support:
        balance = f"{counted(largest.support, 'image')} in every class that occurs"
    show_sentence(
        out,
        f"Class balance: {balance}. Always predicting {largest.name} would be "
        f"{percent(largest.support / metrics.images)} accurate.",
    )
    _show_calibration(out, found, "predictions")
    out.print()
    _show_groups(out, found)
    rows = [(f"top-{k} accuracy", share, other and other.top[k], percent) for k, share in metrics.top.items()]
    rows.append(("balanced accuracy", metrics.balanced, other and other.balanced, percent))
    rows.append(("cross-entropy (nats)", metrics.cross_entropy, other and other.cross_entropy, "{:.4f}".format))
    table = [
        [name, form(own.value), _interval(own, form), *([form(compared.value)] if other else [])]
        for name, own, compared, form in rows
    ]
    for name in ("macro_precision", "macro_recall", "macro_f1"):
        compared = [f"{getattr(other, name):.4f}"] if other else []
        table.append([name.replace("_", " ").replace("f1", "F1"), f"{getattr(metrics, name):.4f}", "", *compared])
    _show_metrics(out, outcome, table)


def _show_metrics(out, outcome: TallyOutcome, table: list[list[str]]) -> None:
    compared = [outcome.compared] if outcome.compared else []
    show_table(out, ["", outcome.artifact, "95 % CI", *compared], table)


def _show_classes(out, metrics, worst: int) -> None:
    listed = [each for each in metrics.classes if each.support or each.predicted]
    cut = len(listed) > max(worst, MOST_CLASSES)
    if cut:
        listed = sorted(listed, key=lambda each: (each.f1, -each.support))[:worst]
    columns = [
        f"{len(listed)} worst classes" if cut else "true class",
        "images",
        "predicted",
        "correct",
        "precision",
        "recall",
        "95 % CI of recall",
        "F1",
    ]
    rows = []
    for each in listed:
        row = [
            each.name,
            str(each.support),
            str(each.predicted),
            str(each.correct),
            percent(each.precision),
            percent(each.recall),
        ]
        interval = "-" if each.recall_interval is None else _interval(each.recall_interval, percent)
        rows.append([*row, interval, f"{each.f1:.4f}"])
    show_table(out, columns, rows, optional=("95 % CI of recall",))


def _interval(estimate, form) -> str:
    return f"{form(estimate.low)} to {form(estimate.high)}"


def _show_pairs(out, metrics, worst: int) -> None:
    """The pairs that were confused more than once, or else some of the others."""
    often = [pair for pair in metrics.pairs if pair.count > 1] or list(metrics.pairs[:3])
    listed = often[:worst]
    rows = [[pair.true_class, pair.predicted, str(pair.count), percent(pair.share)] for pair in listed]
    rest = metrics.pairs[len(listed) :]
    if rest:
        rows.append([f"{counted(len(rest), 'other pair')}", "", str(sum(pair.count for pair in rest)), ""])
    show_table(out, ["most confused: true", "predicted", "images", "% of class"], rows, left=2)


def _show_calibration(out, found, what: str) -> None:
    show_sentence(out, calibration_sentence(found.calibration, what))


def _show_multi_label(out, outcome: TallyOutcome, worst: int) -> None:
    found = outcome.found
    metrics, other = found.multi_label, found.other
    _show_labels(out, metrics, worst)
    show_sentence(
        out,
        f"Threshold: a label is assigned from probability {metrics.threshold:g}. On these images "
        f"{metrics.best_threshold:.4f} gives the highest micro F1, {metrics.best_f1:.4f}; choose a threshold on other "
        "images than you report.",
    )
    _show_calibration(out, found, "labels")
    out.print()
    _show_groups(out, found)
    sides = [metrics, *([other] if other else [])]
    own, *compared = [percent(side.exact_match.value) for side in sides]
    table = [["all labels correct", own, _interval(metrics.exact_match, percent), *compared]]
    own, *compared = [f"{side.hamming_loss:.4f}" for side in sides]
    table.append(["wrong labels (Hamming loss)", own, "", *compared])
    for kind in ("micro", "macro", "samples"):
        for index, name in enumerate(("precision", "recall", "F1")):
            own, *compared = [f"{getattr(side.averages, kind)[index]:.4f}" for side in sides]
            table.append([f"{kind} {name}", own, "", *compared])
    _show_metrics(out, outcome, table)


def _show_labels(out, metrics, worst: int) -> None:
    listed, cut = metrics.labels, len(metrics.labels) > max(worst, MOST_CLASSES)
    if cut:
        listed = sorted(listed, key=lambda each: each.f1)[:worst]
    rows = [
        [
            each.name,
            str(each.support),
            str(each.predicted),
            str(each.correct),
            percent(each.precision),
            percent(each.recall),
            f"{each.f1:.4f}",
            "-" if each.average_precision is None else f"{each.average_precision:.4f}",
        ]
        for each in listed
    ]
    show_table(
        out,
        [
            f"{len(rows)} worst labels" if cut else "label",
            "images",
            "predicted",
            "correct",
            "precision",
            "recall",
            "F1",
            "average precision",
        ],
        rows,
    )


def _show_groups(out, found) -> None:
    if found.groups:
        rows = [
            [name, str(found.group_images[name]), percent(share.value), _interval(share, percent)]
            for name, share in found.groups.items()
        ]
        show_table(out, ["group", "images", "accuracy", "95 % CI"], rows)


"""How many exchanged classes a warning lists."""
