"""zygal tally: how right an artifact is on labelled images."""

from __future__ import annotations

from pathlib import Path

from zygal.cli.options import add_classifier_options, new_command, number_list, opened_classifiers, part_of_one
from zygal.cli.output import check_json, console, counting_bar, warn, write_json
from zygal.errors import LabelsError, OutputError, some_of
from zygal.files import make_folder


def register(commands) -> None:
    command = new_command(
        commands,
        "tally",
        "Counts how right an artifact is on labelled images: accuracy, classes, confusion, calibration, doubtful images.",
        "zygal tally channel_marks.onnx --images labelled.csv --beside keras/channel_marks.onnx",
    )
    command.add_argument("artifact", metavar="ARTIFACT", help="the ONNX file to run")
    command.add_argument("--images", metavar="DIR|CSV", required=True,
                         help="a folder with a sub-folder a class, or a CSV: path (from where it lies), label, perhaps group")  # fmt: skip
    command.add_argument(
        "--numbers", metavar="FILE", help="what labels that are numbers stand for: a labels file or training folder"
    )
    command.add_argument("--top", metavar="K,K", type=number_list, help="the k of the top-k shares (1,3 or 1,5)")
    command.add_argument("--threshold", metavar="PART", type=part_of_one, default=0.5,
                         help="from which probability on one of several labels is given (50%%)")  # fmt: skip
    command.add_argument("--at-least", metavar="PART", type=part_of_one, help="a gate: the share that must be right")
    command.add_argument("--margin", metavar="PART", type=part_of_one, default=0.01,
                         help="beside OTHER, the loss of accuracy that still counts as equally good (1%%)")  # fmt: skip
    command.add_argument("--trained-on", metavar="DIR", action="append", default=[],
                         help="images that the model learnt from; those that are also tallied are listed")  # fmt: skip
    command.add_argument("--worst", metavar="COUNT", type=int, default=12,
                         help="how many of the worst classes, pairs and images to show (12)")  # fmt: skip
    command.add_argument("--draw", metavar="DIR", help="draw the confusion, the calibration, and the wrong ones there")
    command.add_argument(
        "--pair", metavar="TRUE,SAID", help="of the wrong ones, draw only those of one class taken for another"
    )
    add_classifier_options(command)
    command.set_defaults(run=run)


def run(options) -> int:
    from zygal.cli import tally_report as report
    from zygal.tally.labelled import join
    from zygal.tally.tally import Choices, tally

    _check(options)
    first, beside = opened_classifiers(options)
    images = _labelled(options, first.multi_label)
    if not first.named:
        raise LabelsError(
            f"{options.artifact} carries no labels to join by; give --labels FILE or the training folder."
        )
    pair = _pair(options.pair, first.labels) if options.pair else None
    joined = join(images, first.labels, options.images)
    tops = tuple(options.top or ((1, 3) if len(first.labels) <= 20 else (1, 5)))
    choices = Choices(tuple(k for k in tops if k <= len(first.labels)), options.threshold, options.margin,
                      tuple(options.trained_on), options.threads)  # fmt: skip
    with counting_bar("tallying", len(joined.images)) as advance:
        found = tally(first, joined, choices, beside, advance)
    for note in (*first.notes, *(beside.notes if beside else ()), *_join_notes(joined, len(images))):
        warn(note)
    out = console()
    report.show_tally(out, found, first, beside, options)
    write_json(options.json, report.document(found, first, beside, options))
    if options.draw:
        _draw(out, found, first, options, pair)
    return 1 if report.fails(found, options.at_least) else 0


def _check(options) -> None:
    if options.top and min(options.top) < 1:
        raise OutputError("--top counts from 1; give numbers like 1,5.")
    if options.pair and not options.draw:
        raise OutputError("--pair says which wrong ones are drawn, so it goes with --draw DIR.")
    if options.draw:
        make_folder(options.draw)
    check_json(options.json)


def _labelled(options, several: bool):
    from zygal.labels import read_labels
    from zygal.tally.labelled import numbers_named, read_labelled

    images = read_labelled(options.images, several)
    if options.numbers:
        images = numbers_named(images, read_labels(options.numbers), options.images)
    return images


def _join_notes(joined, total: int) -> list[str]:
    """What the reader must know of labels that do not meet the classes."""
    notes = []
    if joined.unknown:
        hints = [f"{name} (is it {joined.advice[name]}?)" if name in joined.advice else name for name in joined.unknown]
        left_out = total - len(joined.images)
        notes.append(
            f"{left_out} images are left out, whose labels are no classes of the artifact: {some_of(hints, 6)}"
        )
    if joined.respelt:
        pairs = [f"{mine} = {own}" for mine, own in joined.respelt.items()]
        notes.append(f"joined though spelt otherwise: {some_of(pairs, 6)}")
    if joined.missing:
        notes.append(f"no image of {some_of(list(joined.missing), 6)}: nothing is said about what has no image")
    return notes


def _pair(text: str, classes) -> tuple[str, str]:
    truth, comma, said = (part.strip() for part in text.partition(","))
    for name in (truth, said):
        if name not in classes:
            raise LabelsError(
                f"--pair {text}: {name!r} is no class; give TRUE,SAID out of {some_of(list(classes), 6)}."
            )
    return truth, said


def _draw(out, found, first, options, pair) -> None:
    from zygal.figures.confusion import draw_confusion
    from zygal.figures.reliability import draw_reliability
    from zygal.figures.wrong import draw_wrong

    folder, drawn = Path(options.draw), []
    if found.exclusive:
        draw_confusion(
            found.exclusive,
            f"{first.path}: what {found.images} images are, and are taken for",
            folder / "confusion.png",
        )
        drawn.append("confusion.png")
    draw_reliability(
        found.calibration, f"{first.path}: how sure it is, and how often it is right", folder / "reliability.png"
    )
    drawn.append("reliability.png")
    wrong = [each for each in found.wrong if pair is None or (each.truth, each.said) == ((pair[0],), (pair[1],))]
    if wrong:
        title = (
            f"{first.path}: " + (f"{pair[0]} taken for {pair[1]}" if pair else "the wrong ones") + ", the surest first"
        )
        draw_wrong(wrong[: max(options.worst, 1)], len(wrong), title, folder / "wrong.png")
        drawn.append("wrong.png")
    elif pair:
        warn(f"no image of {pair[0]} was taken for {pair[1]}, so wrong.png is not drawn")
    out.print(f"Drawn in {folder}: {', '.join(drawn)}.")
