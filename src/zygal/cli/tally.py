"""zygal tally: metrics of an artifact on labelled images."""

from __future__ import annotations

from zygal.cli.command import Command, default_of
from zygal.cli.options import add_classifier_options, finish_parser, new_parser, number_list, share_of_one, shown_share
from zygal.commands.tally import TallyRequest

SUMMARY = "Measures accuracy, confusion and calibration on labelled images, and compares two models in pairs."
COMMAND = Command(TallyRequest, "zygal.commands.tally", "zygal.cli.reports.tally")


def register(commands) -> None:
    parser = new_parser(
        commands,
        "tally",
        SUMMARY,
        "zygal tally channel_marks.onnx --images labelled.csv --compare keras/channel_marks.onnx",
    )
    parser.add_argument("artifact", metavar="ARTIFACT", help="the ONNX file to run")
    parser.add_argument(
        "--images",
        metavar="DIR|CSV",
        required=True,
        help="a folder with one sub-folder per class, or a CSV or Parquet table: path (relative to the table), "
        "label, perhaps group; all may be URLs",
    )
    parser.add_argument(
        "--numbers", metavar="FILE", help="what numeric labels mean: a labels file, or the training folder"
    )
    parser.add_argument(
        "--top", metavar="K,K", type=number_list, help="the k of the top-k accuracies (default: 1,3 or 1,5)"
    )
    threshold, margin, worst = (default_of(TallyRequest, name) for name in ("threshold", "margin", "worst"))
    parser.add_argument(
        "--threshold",
        metavar="SHARE",
        type=share_of_one,
        default=threshold,
        help=f"multi-label: the probability from which a label is assigned (default: {shown_share(threshold)})",
    )
    parser.add_argument("--min-accuracy", metavar="SHARE", type=share_of_one, help="gate: fail below this accuracy")
    parser.add_argument(
        "--margin",
        metavar="SHARE",
        type=share_of_one,
        default=margin,
        help=f"with --compare: the loss of accuracy that still counts as not worse (default: {shown_share(margin)})",
    )
    parser.add_argument(
        "--trained-on",
        metavar="DIR",
        action="append",
        default=[],
        help="folder of training images: labelled images that are also there are listed",
    )
    parser.add_argument(
        "--worst",
        metavar="N",
        type=int,
        default=worst,
        help=f"how many of the worst classes, pairs and images to list (default: {worst})",
    )
    parser.add_argument(
        "--draw", metavar="DIR", help="draw the confusion matrix, the calibration and the wrong predictions there"
    )
    parser.add_argument(
        "--pair", metavar="TRUE,PREDICTED", help="with --draw: only the wrong predictions of this pair of classes"
    )
    add_classifier_options(parser)
    finish_parser(parser, COMMAND)
