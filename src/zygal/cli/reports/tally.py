"""The report of zygal tally. Details come first: what is read most stands at the end."""

from __future__ import annotations

from zygal.cli.reports.verdict import show_verdict
from zygal.cli.tables import show_sentence, show_table
from zygal.commands.tally import TallyOutcome
from zygal.tally.paired import BETTER, NOT_WORSE, SAME, WORSE
from zygal.wording import counted, percent, points

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
    calibration = found.calibration
    accuracy = calibration.accuracy
    if accuracy.low <= calibration.confidence <= accuracy.high:
        verdict = "No over- or underconfidence is detected"
    else:
        verdict = f"The model is {'over' if calibration.confidence > accuracy.value else 'under'}confident"
    show_sentence(
        out,
        f"Calibration of {what}: mean confidence {percent(calibration.confidence)}, accuracy {percent(accuracy.value)} "
        f"(95 % CI {_interval(accuracy, percent)}). {verdict}. Expected calibration error "
        f"{calibration.expected_error:.4f} over {len(calibration.bins)} bins; on as many images, a perfectly "
        f"calibrated model stays below {calibration.by_chance:.4f} in three of four cases.",
    )


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


MOST_EXCHANGED = 6
"""How many exchanged classes a warning lists."""


def warnings(found, worst: int) -> list[str]:
    """What makes the metrics doubtful, one sentence each."""
    sentences = []
    if found.exchange:
        moved = list(found.exchange.predicted_as.items())
        pairs = ", ".join(f"{true} is predicted as {predicted}" for true, predicted in moved[:MOST_EXCHANGED])
        more = f", and {len(moved) - MOST_EXCHANGED} more" if len(moved) > MOST_EXCHANGED else ""
        how = f"off by {found.exchange.shift:+d}" if found.exchange.shift else "exchanged"
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
