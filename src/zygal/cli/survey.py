"""zygal survey: what a file is and what is in it."""

from __future__ import annotations

from zygal.cli.command import Command
from zygal.cli.options import finish_parser, new_parser
from zygal.commands.survey import SurveyRequest

SUMMARY = "Says what a file is: tensor names, shapes and dtypes, classes, layers, sizes and versions."
COMMAND = Command(SurveyRequest, "zygal.commands.survey", "zygal.cli.reports.survey")


def register(commands) -> None:
    parser = new_parser(commands, "survey", SUMMARY, "zygal survey channel_marks.pt2")
    parser.add_argument("file", metavar="FILE", help="a trained model, an artifact, a witness, an inlet or a labels file")
    finish_parser(parser, COMMAND)
