"""zygal match: an artifact and its preprocessing against a recording."""

from __future__ import annotations

from zygal.cli.command import Command, default_of
from zygal.cli.options import (
    SCORES_DEFAULT,
    add_endpoint,
    finish_parser,
    limit,
    new_parser,
    share_of_one,
    shown,
    shown_share,
)
from zygal.commands.match.request import MatchRequest

SUMMARY = (
    "Checks preprocessing (A), model (B) and both end to end (C) against a witness, and names the cause of a failure."
)
COMMAND = Command(MatchRequest, "zygal.commands.match.execute", "zygal.cli.reports.match")


def register(commands) -> None:
    parser = new_parser(
        commands, "match", SUMMARY, "zygal match channel_marks.onnx --witness channel_marks.witness --images reference"
    )
    parser.add_argument(
        "artifact",
        metavar="ARTIFACT",
        nargs="?",
        help="the artifact to check; with --endpoint, the one that the service should serve",
    )
    parser.add_argument("--witness", metavar="FILE", required=True, help="the recording of the training framework")
    parser.add_argument(
        "--scores", metavar="NAME", help=f"the output of the artifact to check, if it has several ({SCORES_DEFAULT})"
    )
    parser.add_argument("--images", metavar="DIR", help="folder of the recorded images; without it only B is checked")
    parser.add_argument("--inlet", metavar="FILE", help="check this inlet instead of the one inside the artifact")
    for option, metavar, what in (
        ("tensor-limit", "LEVELS", "A: largest difference of the tensors, in grey levels"),
        (
            "model-limit",
            "SHARE",
            "B: largest difference of the scores, as a share of the spread of the recorded scores",
        ),
        ("end-limit", "SHARE", "C: largest difference of the scores, as a share of the spread of the recorded scores"),
    ):
        default = default_of(MatchRequest, option.replace("-", "_"))
        parser.add_argument(
            f"--{option}", metavar=metavar, type=limit, default=default, help=f"{what} (default: {shown(default)})"
        )
    for option, what in (
        ("agree-limit", "images with the recorded top-1 class"),
        ("order-limit", "pairs of classes in the recorded order"),
    ):
        default = default_of(MatchRequest, option.replace("-", "_"))
        parser.add_argument(
            f"--{option}",
            metavar="SHARE",
            type=share_of_one,
            default=default,
            help=f"B and C of a shrunk artifact: least share of {what} (default: {shown_share(default)})",
        )
    worst = default_of(MatchRequest, "worst")
    parser.add_argument(
        "--worst",
        metavar="N",
        type=int,
        default=worst,
        help=f"how many of the images that differ most to list (default: {worst})",
    )
    parser.add_argument(
        "--write-inlet", metavar="FILE", help="write the corrected inlet, if A fails and the cause is found"
    )
    parser.add_argument(
        "--sheet", metavar="PNG", help="draw the images that differ most, with scores and tensor differences"
    )
    parser.add_argument(
        "--own-rounding",
        action="store_true",
        help="compute the artifact in float64 on some recorded tensors, to tell a wrong conversion from rounding "
        "(without it, only where B fails or is near its limit)",
    )
    add_endpoint(parser, "check")
    parser.add_argument(
        "--endpoint-limit",
        metavar="SHARE",
        type=limit,
        help="E: largest difference of the service's scores from those of ARTIFACT, as a share of the spread "
        "(default: 1e-5, or 0.02 in 8 bits)",
    )
    finish_parser(parser, COMMAND)
