"""How a tally looks, on the terminal and as JSON."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

from zygal.cli.output import counted, show_table
from zygal.tally.paired import AS_GOOD, BETTER, SAME, WORSE
from zygal.wording import percent


def show_tally(out, found, first, beside, options) -> None:
    """Everything, the doubts and the verdict last."""
    from rich.text import Text

    out.print(
        f"{first.path} on {first.engine_name}, {counted(found.images, 'image')} of {options.images} "
        f"in {counted(len(first.labels), 'class')} (in the order of: {first.labels_order or 'the artifact'})"
    )
    out.print()
    if found.exclusive:
        _show_exclusive(out, found, beside, options)
    else:
        _show_several(out, found, beside, options)
    for line in _doubts(found, options):
        out.print(Text(line, style="yellow"))
    for name, reason in found.unreadable[: options.worst]:
        out.print(Text(f"could not be read: {name}: {reason}", style="red"), soft_wrap=True)
    if len(found.unreadable) > options.worst:
        out.print(Text(f"could not be read: {len(found.unreadable) - options.worst} more", style="red"))
    if found.paired:
        out.print(Text(paired_sentence(found.paired, first, beside), style=_STYLES.get(found.paired.verdict, "bold")))
    style = "bold red" if fails(found, options.at_least) else "bold" if options.at_least is None else "bold green"
    out.print(Text(verdict(found, options.at_least), style=style))


_STYLES = {SAME: "bold green", AS_GOOD: "bold green", BETTER: "bold green", WORSE: "bold red"}


def fails(found, at_least: float | None) -> bool:
    """Whether a gate breaks: images that cannot be read, too few right, or worse than what is put beside it."""
    low = at_least is not None and found.right.value < at_least
    return bool(found.unreadable) or low or bool(found.paired and found.paired.verdict == WORSE)


def verdict(found, at_least: float | None) -> str:
    """The last line: what holds, or what breaks."""
    share = f"{percent(found.right.value)} of {counted(found.images, 'image')} right"
    parts = []
    if at_least is not None:
        parts.append(f"{share}, {percent(at_least)} asked for")
    if found.unreadable:
        parts.append(f"{counted(len(found.unreadable), 'image')} could not be read")
    if found.paired and found.paired.verdict == WORSE:
        parts.append("worse than what was put beside it")
    if fails(found, at_least):
        return f"BREAKS: {'; '.join(parts)}."
    return f"HOLDS: {parts[0]}." if parts else f"{share}."


def paired_sentence(both, first, beside) -> str:
    """Whether the first is as good as the other: the same accuracy is not the same predictions, so both are said."""
    if both.verdict == SAME:
        return f"{first.path} gives the same answer as {beside.path} on all {counted(both.images, 'image')}."
    changed = (
        f"{counted(both.differing, 'image')} answered otherwise than by {beside.path} ({percent(both.differing / both.images)}): "
        f"{both.gained} only {first.path} has right, {both.lost} only {beside.path}, "
        f"{both.differing - both.gained - both.lost} both wrong"
    )
    interval = f"{_points(both.difference.low)} to {_points(both.difference.high)} points"
    test = f"{_points(both.difference.value)} points of accuracy (95 %: {interval}; exact test p = {both.chance:.2g})"
    says = {
        AS_GOOD: f"as good: a loss of more than {100 * both.margin:g} points is ruled out",
        WORSE: f"{first.path} is worse",
        BETTER: f"{first.path} is better",
    }.get(
        both.verdict,
        f"too few images to say that it is as good: a loss of {_points(-both.difference.low, False)} points is not ruled out",
    )
    return f"{changed}; {test}: {says}."


def _points(part: float, signed: bool = True) -> str:
    return f"{100 * part:{'+' if signed else ''}.2f}"


def _show_exclusive(out, found, beside, options) -> None:
    """Details first: what is read most stands where the eye is at the end."""
    mine, other = found.exclusive, found.other
    _show_classes(out, mine, options)
    if mine.pairs:
        _show_pairs(out, mine, options)
    largest = max(mine.classes, key=lambda each: each.support)
    smallest = min((each for each in mine.classes if each.support), key=lambda each: each.support)
    out.print(
        f"Balance: {smallest.support} ({smallest.name}) to {largest.support} ({largest.name}) images a class; always saying "
        f"{largest.name} would be right on {percent(largest.support / mine.images)}."
    )
    _show_calibration(out, found, "the answers")
    out.print()
    _show_groups(out, found)
    rows = [(f"top-{k}", share, other and other.top[k], percent) for k, share in mine.top.items()]
    rows.append(("balanced accuracy", mine.balanced, other and other.balanced, percent))
    rows.append(("cross-entropy, nats", mine.cross_entropy, other and other.cross_entropy, "{:.4f}".format))
    table = [[name, form(value.value), _span(value, form),
              *([form(theirs.value)] if other else [])] for name, value, theirs, form in rows]  # fmt: skip
    for name in ("macro_precision", "macro_recall", "macro_f1"):
        theirs = [f"{getattr(other, name):.4f}"] if other else []
        table.append([name.replace("_", " ").replace("f1", "F1"), f"{getattr(mine, name):.4f}", "", *theirs])
    show_table(out, ["", str(options.artifact), "95 % interval", *([str(beside.path)] if beside else [])], table)


def _show_classes(out, mine, options) -> None:
    shown = [each for each in mine.classes if each.support or each.predicted]
    cut = len(shown) > max(options.worst, 20)
    if cut:
        shown = sorted(shown, key=lambda each: (each.f1, -each.support))[: options.worst]
    narrow = out.width < 100
    columns = [
        f"the {len(shown)} worst classes" if cut else "class",
        "support",
        "taken for it",
        "right",
        "precision",
        "recall",
    ]
    rows = [_class_row(each, narrow) for each in shown]
    show_table(out, columns + ([] if narrow else ["95 % interval"]) + ["F1"], rows)


def _class_row(each, narrow: bool) -> list[str]:
    row = [
        each.name,
        str(each.support),
        str(each.predicted),
        str(each.right),
        percent(each.precision),
        percent(each.recall),
    ]
    if not narrow:
        row.append("-" if each.recall_interval is None else _span(each.recall_interval, percent))
    return [*row, f"{each.f1:.4f}"]


def _span(estimate, form) -> str:
    return f"{form(estimate.low)} to {form(estimate.high)}"


def _show_pairs(out, mine, options) -> None:
    """The pairs that were confused more than once, or else some of the others."""
    often = [pair for pair in mine.pairs if pair.count > 1] or list(mine.pairs[:3])
    shown = often[: options.worst]
    rows = [[pair.truth, pair.said, str(pair.count), percent(pair.part)] for pair in shown]
    rest = mine.pairs[len(shown) :]
    if rest:
        rows.append([f"{counted(len(rest), 'other pair')}", "", str(sum(pair.count for pair in rest)), ""])
    show_table(out, ["confused most", "taken for", "images", "of its class"], rows, left=2)


def _show_calibration(out, found, what: str) -> None:
    sure = found.calibration
    if sure.overall.low <= sure.said <= sure.overall.high:
        lean = "No over- or underconfidence is detected"
    else:
        lean = f"The model is {'over' if sure.said > sure.right else 'under'}confident"
    out.print(
        f"Calibration of {what}: mean confidence {percent(sure.said)}, accuracy {percent(sure.right)} (95 % CI "
        f"{percent(sure.overall.low)} to {percent(sure.overall.high)}). {lean}. Expected calibration error {sure.error:.4f} over "
        f"{len(sure.bins)} bins."
    )


def _show_several(out, found, beside, options) -> None:
    mine, other = found.several, found.other
    _show_labels(out, mine, options)
    out.print(
        f"Threshold: a label is given from {mine.threshold:g} on; {mine.best_threshold:.4f} would give the highest micro F1 on "
        f"these very images, {mine.best_f1:.4f}."
    )
    _show_calibration(out, found, "labels")
    out.print()
    _show_groups(out, found)
    sides = [mine, *([other] if other else [])]
    exact, *theirs = [percent(side.exact.value) for side in sides]
    rows = [["all labels right", exact, _span(mine.exact, percent), *theirs]]
    wrong, *theirs = [f"{side.wrong_part:.4f}" for side in sides]
    rows.append(["labels wrong (Hamming loss)", wrong, "", *theirs])
    for kind in ("micro", "macro", "samples"):
        for place, name in enumerate(("precision", "recall", "F1")):
            own, *theirs = [f"{getattr(side.averages, kind)[place]:.4f}" for side in sides]
            rows.append([f"{kind} {name}", own, "", *theirs])
    show_table(out, ["", str(options.artifact), "95 % interval", *([str(beside.path)] if beside else [])], rows)


def _show_labels(out, mine, options) -> None:
    shown, cut = mine.labels, len(mine.labels) > max(options.worst, 20)
    if cut:
        shown = sorted(shown, key=lambda each: each.f1)[: options.worst]
    rows = [[each.name, str(each.support), str(each.predicted), str(each.right), percent(each.precision), percent(each.recall),
             f"{each.f1:.4f}", "-" if each.average_precision is None else f"{each.average_precision:.4f}"]
            for each in shown]  # fmt: skip
    show_table(out, [f"the {len(rows)} worst labels" if cut else "label", "support", "given", "right", "precision", "recall",
                     "F1", "average precision"], rows)  # fmt: skip


def _show_groups(out, found) -> None:
    if not found.groups:
        return
    rows = [[name, str(found.group_images[name]), percent(share.value), _span(share, percent)]
            for name, share in found.groups.items()]  # fmt: skip
    show_table(out, ["group", "images", "right", "95 % interval"], rows)


def _doubts(found, options) -> list[str]:
    """What makes the figures doubtful, a sentence each."""
    said = []
    if found.exchanged:
        what = ", ".join(f"{name} is called {other}" for name, other in list(found.exchanged.taken_for.items())[:4])
        how = f"are off by {found.exchanged.shift:+d}" if found.exchanged.shift else "look exchanged"
        said.append(
            f"Doubt: the labels {how} ({what}); so named {found.exchanged.right_then} of {found.images} images would be right "
            f"instead of {found.exchanged.right_now}."
        )
    doubts = found.doubts
    for pairs, what in (
        (doubts.two_labels, "same picture under two labels"),
        (doubts.shared, "also in what the model learnt from"),
    ):
        for one, other in pairs[: options.worst]:
            said.append(f"Doubt: {what}: {one} and {other}")
        if len(pairs) > options.worst:
            said.append(f"Doubt: {what}: {len(pairs) - options.worst} more pairs")
    if doubts.repeated:
        pairs = counted(len(doubts.repeated), "pair")
        said.append(
            f"Doubt: {pairs} of images are the same picture under the same label, as {' and '.join(doubts.repeated[0])}"
        )
    return said


def document(found, first, beside, options) -> dict[str, Any]:
    """The whole tally, with units in the key names."""
    whole = asdict(found)
    joined = whole.pop("joined")
    whole["share_right"] = whole.pop("right")
    if found.exclusive:
        for side in ("exclusive", "other"):
            if whole[side]:
                _name_units(whole[side])
    return {
        "artifact": str(first.path),
        "engine": first.engine_name,
        "images_from": options.images,
        "labels": first.labels,
        "labels_order": first.labels_order,
        "scores_are": first.kind,
        "beside": beside and str(beside.path),
        **whole,
        "paired": found.paired and asdict(found.paired) | {"verdict": found.paired.verdict},
        "left_out": joined["unknown"],
        "joined_though_spelt_otherwise": joined["respelt"],
        "classes_without_image": joined["missing"],
        "holds": not fails(found, options.at_least),
    }


def _name_units(figures: dict[str, Any]) -> None:
    figures["cross_entropy_nats"] = figures.pop("cross_entropy")
    figures["confusion"] = figures["confusion"].tolist()
