"""zygal classify: what an artifact says about images, a few on the terminal or very many into a file."""

from __future__ import annotations

import time
from dataclasses import asdict
from itertools import islice

from zygal.cli.classify_regions import draw_regions_of_one
from zygal.cli.classify_report import answers_document, show_answers, show_first_disagreements, totals_line
from zygal.cli.options import add_classifier_options, new_command, opened_classifiers, part_of_one
from zygal.cli.output import check_json, console, counting_bar, warn, write_json
from zygal.errors import OutputError

FEW = 100


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
    from zygal.prediction.prediction import Limits
    from zygal.prediction.classification import Classification
    from zygal.prediction.listing import Listing
    from zygal.prediction.resumable import files_of

    _check(options)
    written = [*files_of(options.output), *filter(None, (options.output, options.json, options.regions))]
    listing = Listing(options.paths, options.lists, options.skip, written)
    listing.check()
    first, beside = opened_classifiers(options)
    for note in (*first.notes, *(beside.notes if beside else ())):
        warn(note)
    if options.regions:
        return draw_regions_of_one(options, listing, first, beside)
    limits = Limits(options.least_probability, options.least_lead, options.threshold)
    inquiry = Classification(first, beside, limits, min(options.top, len(first.labels)), options.threads)
    return (_into_file if options.output else _on_terminal)(options, listing, inquiry)


def _check(options) -> None:
    from zygal.prediction.rows import row_format
    from zygal.files import check_writable

    if options.top < 1:
        raise OutputError(f"--top {options.top} names no class; give 1 or more.")
    if options.output:
        row_format(options.output)
        check_writable(options.output)
    if options.regions:
        check_writable(options.regions)
    check_json(options.json)


def _on_terminal(options, listing, inquiry) -> int:
    from zygal.prediction.classification import counts_of, nothing_read

    paths = list(islice(listing, FEW + 1))
    if len(paths) > FEW:
        raise OutputError(f"more than {FEW} images are too many to read on a terminal; give -o FILE.csv.")
    began, answers = time.perf_counter(), []
    with counting_bar("classifying", len(paths)) as advance:
        for part in inquiry.answers(paths):
            answers += part
            advance(len(part))
    counts = counts_of(answers)
    if not counts["read"]:
        raise nothing_read(counts, next(iter(answers), None))
    out = console()
    show_answers(out, answers, inquiry)
    out.print(totals_line(counts, len(answers), time.perf_counter() - began, inquiry))
    write_json(options.json, answers_document(inquiry, counts) | {"images": [asdict(each) for each in answers]})
    return 1 if counts["faults"] else 0


def _into_file(options, listing, inquiry) -> int:
    from zygal.prediction.classification import open_predictions

    began = time.perf_counter()
    with open_predictions(options.output, inquiry, listing, options.afresh) as file:
        if file.finished:
            warn(f"{options.output} is finished already")
        else:
            if file.resumed:
                warn(f"{options.output} goes on after row {file.resumed}")
            try:
                with counting_bar("classifying", listing.count(), file.resumed) as advance:
                    for more in file.go_on():
                        advance(more)
            except KeyboardInterrupt:
                warn(f"{file.rows} rows are safe; the same command goes on from there")
                raise
    out = console()
    if file.disagreements:
        show_first_disagreements(out, file.disagreements, inquiry, not file.resumed)
    took, done = time.perf_counter() - began, file.rows - file.resumed
    out.print(f"{options.output}: {totals_line(file.counts, file.rows, took, inquiry, done)}")
    apart = [asdict(each) for each in file.disagreements]
    write_json(options.json, answers_document(inquiry, file.counts)
               | {"output": options.output, "rows": file.rows, "disagreements": apart})  # fmt: skip
    return 1 if file.counts["faults"] else 0
