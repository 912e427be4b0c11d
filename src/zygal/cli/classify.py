"""zygal classify: predictions of an artifact for images."""

from __future__ import annotations

from zygal.cli.command import Command, default_of, request_from
from zygal.cli.options import add_classifier_options, finish_parser, new_parser, share_of_one, shown_share
from zygal.commands.classify.request import PREDICTIONS, VECTORS, ClassifyRequest

SUMMARY = "Predicts the classes of images: a few as a table, any number into a file that can be resumed."


def _request(options) -> ClassifyRequest:
    # The JSON document may be written into a folder of images.
    options.exclude = [options.json] if options.json else []
    return request_from(ClassifyRequest, options)


COMMAND = Command(ClassifyRequest, "zygal.commands.classify.execute", "zygal.cli.reports.classify", _request)


def register(commands) -> None:
    parser = new_parser(commands, "classify", SUMMARY, "zygal classify channel_marks.onnx reference -o predictions.csv")
    parser.add_argument("artifact", metavar="ARTIFACT", help="the ONNX file to run")
    parser.add_argument(
        "paths", metavar="PATH", nargs="*", help="image files, and folders with the images below them; paths or URLs"
    )
    parser.add_argument(
        "--list",
        metavar="FILE",
        action="append",
        default=[],
        dest="lists",
        help="a text file with one path or URL per line (- for standard input), or a .csv or .parquet table with a "
        "column of them; may be repeated",
    )
    parser.add_argument(
        "--column",
        metavar="NAME",
        help="with --list TABLE: the column of the paths (default: path, file, image or the like)",
    )
    parser.add_argument(
        "--as",
        dest="write_as",
        choices=(PREDICTIONS, VECTORS),
        default=default_of(ClassifyRequest, "write_as"),
        help="what to write: predictions, or vectors, the output of the model as it is (.parquet or .npy; default: "
        "predictions)",
    )
    parser.add_argument(
        "--hash-images",
        action="store_true",
        help="notice images that were replaced since an earlier run by the hashes of their bytes, not by size and time",
    )
    parser.add_argument(
        "--skip",
        metavar="PATTERN",
        action="append",
        default=[],
        help="leave out files and folders of this name in folders, as in --skip '*.json'",
    )
    parser.add_argument(
        "-o",
        "--output",
        metavar="FILE",
        help="write one row per image: .csv, .jsonl or .parquet; the same command resumes an unfinished file",
    )
    top = default_of(ClassifyRequest, "top")
    parser.add_argument("--top", metavar="N", type=int, default=top, help=f"how many classes to give (default: {top})")
    for option, what in (
        ("min-probability", "a prediction with a lower probability is marked uncertain"),
        ("min-margin", "a prediction whose probability exceeds that of the second class by less is marked uncertain"),
        ("threshold", "multi-label: the probability from which a label is assigned"),
    ):
        default = default_of(ClassifyRequest, option.replace("-", "_"))
        parser.add_argument(
            f"--{option}",
            metavar="SHARE",
            type=share_of_one,
            default=default,
            help=f"{what} (default: {shown_share(default)})",
        )
    add_classifier_options(parser)
    parser.add_argument(
        "--regions", metavar="PNG", help="for one image: draw what supports and what opposes the prediction"
    )
    finish_parser(parser, COMMAND)
