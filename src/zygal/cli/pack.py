"""zygal pack: one bundle to ship, and its check."""

from __future__ import annotations

from zygal.bundle.command import PackRequest
from zygal.cli.command import Command
from zygal.cli.options import finish_parser, new_parser

SUMMARY = (
    "Packs artifacts with labels, preprocessing, reference images and runners into one bundle, or checks a bundle."
)
COMMAND = Command(PackRequest, "zygal.bundle.command", "zygal.cli.reports.pack")


def register(commands) -> None:
    parser = new_parser(
        commands,
        "pack",
        SUMMARY,
        "zygal pack channel_marks.onnx --images reference --signoff signoff.signoff -o channel_marks.zip",
    )
    parser.add_argument("artifacts", metavar="ARTIFACT", nargs="*", help="the artifacts to pack")
    parser.add_argument(
        "-o",
        "--output",
        metavar="BUNDLE",
        help="the bundle to write, a zip archive; the same inputs give the same bytes",
    )
    parser.add_argument(
        "--images", metavar="DIR", help="folder of reference images; ten that differ most in kind are packed"
    )
    parser.add_argument(
        "--signoff",
        metavar="DIR",
        help="what zygal signoff wrote (its folder or result.json): packs the page, or with --check, is what the "
        "bundle is held against",
    )
    parser.add_argument(
        "--no-runners",
        action="store_true",
        help="leave out the programs in Python and JavaScript that run the artifact and check themselves",
    )
    parser.add_argument(
        "--check", metavar="BUNDLE", help="check a bundle: hashes, sign-off, and its runner on its own images"
    )
    parser.add_argument(
        "--run-code",
        action="store_true",
        help="with --check: run the bundled runner although this release of Zygal did not write it",
    )
    finish_parser(parser, COMMAND)
