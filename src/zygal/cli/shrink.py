"""zygal shrink: an artifact in lower precision."""

from __future__ import annotations

from zygal.cli.command import Command, default_of
from zygal.cli.options import SCORES_DEFAULT, factor, finish_parser, new_parser, share_of_one
from zygal.commands.shrink import AGREE, ShrinkRequest

SUMMARY = (
    "Writes an artifact whose layers compute in 8 bits, keeps in float what would lose too much, and measures both."
)
COMMAND = Command(ShrinkRequest, "zygal.commands.shrink", "zygal.cli.reports.shrink")


def register(commands) -> None:
    parser = new_parser(
        commands,
        "shrink",
        SUMMARY,
        "zygal shrink channel_marks.onnx -o channel_marks.small.onnx --images reference --agree 99%",
    )
    parser.add_argument("artifact", metavar="ARTIFACT", help="the float artifact, ONNX or a mobile flatbuffer")
    parser.add_argument("-o", "--output", metavar="SMALL", required=True, help="the file to write, in the same format")
    group = parser.add_argument_group("images")
    count = default_of(ShrinkRequest, "count")
    group.add_argument(
        "--images",
        metavar="DIR",
        help="images like those that the model will see, a few hundred; they set the ranges of the activations",
    )
    group.add_argument(
        "--witness",
        metavar="FILE",
        help="set the ranges by recorded tensors; with --images, check the images against the recording",
    )
    group.add_argument("--inlet", metavar="FILE", help="use this inlet instead of the one inside the artifact")
    group.add_argument(
        "--count", metavar="N", type=int, default=count, help=f"use at most N images, at even places (default: {count})"
    )
    group.add_argument(
        "--labelled",
        metavar="DIR|CSV",
        help="labelled images, for the loss of accuracy: a folder with one sub-folder per class, or a CSV",
    )
    group.add_argument(
        "--scores", metavar="NAME", help=f"the output of the artifact to use, if it has several ({SCORES_DEFAULT})"
    )
    group = parser.add_argument_group("budget (layers stay in float until it is met)")
    group.add_argument(
        "--agree",
        metavar="SHARE",
        type=share_of_one,
        help=f"at least this share of the images keeps its top-1 class (default, without a budget: {100 * AGREE:g}%%)",
    )
    group.add_argument(
        "--lose",
        metavar="SHARE",
        type=share_of_one,
        help="at most this much accuracy is lost on --labelled, like 0.5%%",
    )
    group.add_argument(
        "--speed", metavar="TIMES", type=factor, help="at least so many times as fast as the float artifact, like 2x"
    )
    parser.add_argument(
        "--half", action="store_true", help="store the weights as float16 instead: half the file, no speed"
    )
    batch, listed = default_of(ShrinkRequest, "batch"), default_of(ShrinkRequest, "listed")
    parser.add_argument(
        "--batch",
        metavar="N",
        type=int,
        default=batch,
        help=f"batch size at which the speed is measured (default: {batch})",
    )
    parser.add_argument("--threads", metavar="N", type=int, help="number of cores to use (default: all)")
    parser.add_argument("--draw", metavar="FILE", help="draw agreement and speed of what was tried (PNG)")
    parser.add_argument(
        "--listed", metavar="N", type=int, default=listed, help=f"how many layers to list (default: {listed})"
    )
    finish_parser(parser, COMMAND)
