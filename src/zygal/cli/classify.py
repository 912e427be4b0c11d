"""zygal classify: what an artifact says about images, a few on the terminal or very many into a file."""

from __future__ import annotations

import heapq
import time
from collections import Counter
from dataclasses import asdict

from zygal.cli.classify_regions import draw_regions_of_one
from zygal.cli.classify_report import answers_document, show_answers, show_first_disagreements, totals_line
from zygal.cli.options import add_classifier_options, new_command, opened_classifiers, part_of_one
from zygal.cli.output import check_json, console, counting_bar, warn, write_json
from zygal.errors import FileError, ImageError, OutputError, ZygalError

FEW = 100
DISAGREEMENTS = 10


def register(commands) -> None:
    command = new_command(
        commands,
        "classify",
        "Says what an artifact sees in images: a few on the terminal, any number into a file that can be resumed.",
        "zygal classify channel_marks.onnx reference -o answers.csv",
    )
    command.add_argument("artifact", metavar="ARTIFACT", help="the ONNX file to run")
    command.add_argument("paths", metavar="PATH", nargs="*", help="images, and folders with all files below them")
    command.add_argument("--list", metavar="FILE", action="append", default=[], dest="lists",
                         help="a text file that names one image a line; - for standard input")  # fmt: skip
    command.add_argument("--skip", metavar="PATTERN", action="append", default=[],
                         help="pass over files and folders of this name in folders, as in --skip '*.json'")  # fmt: skip
    command.add_argument("-o", "--output", metavar="FILE",
                         help="a row an image there: .csv, .jsonl or .parquet; the same call goes on where it was cut off")  # fmt: skip
    command.add_argument("--afresh", action="store_true", help="begin the output anew, whatever is there")
    command.add_argument("--top", metavar="COUNT", type=int, default=3, help="how many classes to name (3)")
    command.add_argument("--least-probability", metavar="PART", type=part_of_one, default=0.5,
                         help="an answer below it is marked unsure (50%%)")  # fmt: skip
    command.add_argument("--least-lead", metavar="PART", type=part_of_one, default=0.1,
                         help="an answer that leads the second by less is marked unsure (10%%)")  # fmt: skip
    command.add_argument("--threshold", metavar="PART", type=part_of_one, default=0.5,
                         help="from which probability on one of several labels is given (50%%)")  # fmt: skip
    add_classifier_options(command)
    command.add_argument("--regions", metavar="PNG",
                         help="of one image: draw which parts carry the answer, found by covering them")  # fmt: skip
    command.set_defaults(run=run)


def run(options) -> int:
    from zygal.answers.answer import Limits
    from zygal.answers.listing import Listing
    from zygal.answers.resumable import files_of

    _check(options)
    written = [*files_of(options.output), *filter(None, (options.output, options.json, options.regions))]
    listing = Listing(options.paths, options.lists, options.skip, written)
    listing.check()
    first, beside = opened_classifiers(options)
    for note in (*first.notes, *(beside.notes if beside else ())):
        warn(note)
    limits = Limits(options.least_probability, options.least_lead, options.threshold)
    most = min(options.top, len(first.labels))
    if options.regions:
        return draw_regions_of_one(options, listing, first, beside)
    if options.output:
        return _into_file(options, listing, first, beside, limits, most)
    return _on_terminal(options, listing, first, beside, limits, most)


def _check(options) -> None:
    from zygal.answers.rows import row_format
    from zygal.files import check_writable

    if options.top < 1:
        raise OutputError(f"--top {options.top} names no class; give 1 or more.")
    if options.output:
        row_format(options.output)
        check_writable(options.output)
    if options.regions:
        check_writable(options.regions)
    check_json(options.json)


def _on_terminal(options, listing, first, beside, limits, most) -> int:
    from itertools import islice

    from zygal.answers.answer import answers_of
    from zygal.answers.stream import see_all

    paths = list(islice(listing, FEW + 1))
    if len(paths) > FEW:
        raise OutputError(f"more than {FEW} images are too many to read on a terminal; give -o FILE.csv.")
    began, answers = time.perf_counter(), []
    with counting_bar("classifying", len(paths)) as advance:
        for part in see_all(paths, first, lambda seen: answers_of(seen, first, limits, most), beside, options.threads):
            answers += part
            advance(len(part))
    counts = sum((_counts([answer]) for answer in answers), Counter())
    if not counts["read"]:
        raise _nothing_to_read(counts, next(iter(answers), None))
    out = console()
    show_answers(out, answers, first, beside)
    out.print(totals_line(counts, len(answers), time.perf_counter() - began, first, beside))
    write_json(
        options.json,
        answers_document(options, first, beside, limits, counts) | {"images": [asdict(each) for each in answers]},
    )
    return 1 if counts["faults"] else 0


def _into_file(options, listing, first, beside, limits, most) -> int:
    from functools import partial

    from zygal.answers.answer import answers_of
    from zygal.answers.resumable import open_rows
    from zygal.answers.rows import PARQUET, RowWriter, columns_of, row_format, to_parquet
    from zygal.answers.stream import see_all

    ending = row_format(options.output)
    columns = columns_of(most, first.multi_label, beside is not None)
    writer = RowWriter(ending, columns)
    convert = partial(_swapped, to_parquet, columns) if ending == PARQUET else None
    worst: list = []

    def finish(seen):
        answers = answers_of(seen, first, limits, most)
        return answers, writer.rows(answers), _counts(answers)

    began = time.perf_counter()
    with open_rows(options.output, _made_by(options, first, beside, limits, columns), writer.heading(), convert,
                   options.afresh) as rows:  # fmt: skip
        names = iter(listing)
        rows.pass_over(names)
        if rows.resumed:
            warn(f"{options.output} {'is finished already' if rows.finished else f'goes on after row {rows.resumed}'}")
        if not rows.finished:
            first_fault = None
            try:
                with counting_bar("classifying", listing.count(), rows.resumed) as advance:
                    for answers, data, counts in see_all(names, first, finish, beside, options.threads):
                        rows.append(data, [answer.path for answer in answers], counts)
                        advance(len(answers))
                        first_fault = first_fault or next((answer for answer in answers if answer.fault), None)
                        worst = heapq.nlargest(DISAGREEMENTS, [*worst, *filter(_disagrees, answers)], key=_severity)
            except KeyboardInterrupt:
                warn(f"{rows.account.rows} rows are safe; the same command goes on from there")
                raise
            if not rows.counts["read"]:
                rows.discard()
                raise _nothing_to_read(rows.counts, first_fault)
            rows.finish(convert)
    done, took = rows.account.rows - rows.resumed, time.perf_counter() - began
    out = console()
    if worst:
        show_first_disagreements(out, worst, first, beside, not rows.resumed)
    out.print(f"{options.output}: {totals_line(rows.counts, rows.account.rows, took, first, beside, done)}")
    write_json(options.json, answers_document(options, first, beside, limits, rows.counts)
               | {"output": options.output, "rows": rows.account.rows, "disagreements": [asdict(each) for each in worst]})  # fmt: skip
    return 1 if rows.counts["faults"] else 0


def _swapped(to_parquet, columns, rows, target) -> None:
    to_parquet(rows, columns, target)


def _counts(answers) -> Counter:
    """What the closing line says, of some answers."""
    return Counter(
        faults=sum(answer.fault is not None for answer in answers),
        unsure=sum(bool(answer.unsure) for answer in answers),
        disagreements=sum(bool(answer.disagrees) for answer in answers),
        read=sum(answer.fault is None for answer in answers),
    )


def _disagrees(answer) -> bool:
    return bool(answer.disagrees)


def _severity(answer) -> float:
    """How sure the less sure of two that disagree is."""
    return min(answer.top[0].probability, answer.beside.probability)


def _made_by(options, first, beside, limits, columns) -> dict:
    """What the rows depend on."""
    from zygal import __version__
    from zygal.answers.classifier import BATCH
    from zygal.inlet import format_inlet

    return {
        "the artifact": first.sha256,
        "the inlet": format_inlet(first.inlet),
        "the labels": list(first.labels),
        "what the scores are": first.kind,
        "the other classifier": beside and beside.sha256,
        "the other inlet": beside and format_inlet(beside.inlet),
        "the limits": asdict(limits),
        "the columns": list(columns),
        "the runtime": first.engine_name,
        "images a batch": BATCH,
        "the version of zygal": __version__,
    }


def _nothing_to_read(counts: Counter, example) -> ZygalError:
    """What to raise if not one file could be read."""
    if example is None:
        return FileError("standard input names no images; pipe one path a line.")
    if counts["faults"] == 1:
        return ImageError(f"{example.path} {example.fault}; name images.")
    return ImageError(
        f"none of the {counts['faults']} files can be read as an image (the first is {example.path}: {example.fault}); "
        "check what is named."
    )
