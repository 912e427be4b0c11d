"""zygal survey: what a file is and what is in it."""

from __future__ import annotations

from zygal.cli.command import Command
from zygal.cli.options import add_entries, finish_parser, new_parser, number_list
from zygal.commands.survey.execute import SurveyRequest

SUMMARY = "Says what a file is: tensor names, shapes and dtypes, classes, layers, sizes and versions."
COMMAND = Command(SurveyRequest, "zygal.commands.survey.execute", "zygal.cli.reports.survey")


def register(commands) -> None:
    parser = new_parser(commands, "survey", SUMMARY, "zygal survey channel_marks.pt2")
    parser.add_argument(
        "file",
        metavar="FILE",
        help="a trained model (a file, a saved-model folder or FILE.py:FUNCTION), an artifact, a witness, an inlet, "
        "labels or their folder, or a weights file",
    )
    parser.add_argument("--weights", metavar="FILE", help="weights for FILE.py:FUNCTION")
    parser.add_argument(
        "--shape", metavar="C,H,W", type=number_list, help="shape of one image's tensor, if the source does not fix it"
    )
    add_entries(parser)
    parser.add_argument(
        "--write-inlet", metavar="FILE", help="write the preprocessing that a model does itself, as an inlet"
    )
    parser.add_argument(
        "--draw",
        metavar="FILE",
        help="draw the network (PNG or SVG): its parts with repeats folded, shapes, parameters and multiply-adds",
    )
    finish_parser(parser, COMMAND)
