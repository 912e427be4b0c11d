"""zygal witness: record what the training framework does on reference images."""

from __future__ import annotations

from zygal.cli.command import Command
from zygal.cli.options import SCORES_DEFAULT, add_entries, add_source, finish_parser, new_parser
from zygal.commands.witness import WitnessRequest

SUMMARY = "Runs the training framework on reference images and records its input tensors and scores."
COMMAND = Command(WitnessRequest, "zygal.commands.witness", "zygal.cli.reports.witness")


def register(commands) -> None:
    parser = new_parser(
        commands,
        "witness",
        SUMMARY,
        "zygal witness channel_marks.pt2 --images reference -o mine.witness --training-code "
        "training_code.py:load_image --labels labels.txt",
    )
    add_source(parser, optional=True)
    parser.add_argument("--images", metavar="DIR", required=True, help="folder of reference images")
    parser.add_argument("-o", "--output", metavar="FILE", required=True, help="the witness to write")
    parser.add_argument(
        "--scores", metavar="NAME", help=f"the output to record, if the model has several ({SCORES_DEFAULT})"
    )
    add_entries(parser)
    parser.add_argument(
        "--labels",
        metavar="FILE",
        help="also record the class names, so that match compares them: text, JSON, CSV, or the training folder",
    )
    parser.add_argument(
        "--layers",
        action="store_true",
        help="also record outputs of layers, so that match can name the first layer that differs",
    )
    how = parser.add_argument_group("where the tensors come from (exactly one)")
    how.add_argument("--inlet", metavar="FILE", help="this inlet (TOML)")
    how.add_argument(
        "--training-code",
        metavar="FILE.py:FUNCTION",
        help="the training side's own function from an image path to an array (the file is run)",
    )
    how.add_argument(
        "--from-arrays",
        metavar="SCORES",
        help="another framework: its recorded scores [images, classes] as .npy or CSV",
    )
    parser.add_argument("--tensors", metavar="FILE.npy", help="with --from-arrays: the input tensors of the model")
    parser.add_argument("--names", metavar="FILE", help="with --from-arrays: the image name of each row, one per line")
    finish_parser(parser, COMMAND)
