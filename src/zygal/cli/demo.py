"""zygal demo: the whole example, with the real commands."""

from __future__ import annotations

from zygal.cli.command import Command, default_of
from zygal.cli.options import finish_parser, new_parser
from zygal.commands.demo import DemoRequest

SUMMARY = "Writes the demo's files into a folder and runs the whole example there, showing each command."
COMMAND = Command(DemoRequest, "zygal.cli.demo_run", "zygal.cli.reports.demo")


def register(commands) -> None:
    parser = new_parser(commands, "demo", SUMMARY, "zygal demo zygal-demo")
    folder = default_of(DemoRequest, "folder")
    parser.add_argument(
        "folder", metavar="DIR", nargs="?", default=folder, help=f"the folder to write (default: {folder})"
    )
    finish_parser(parser, COMMAND)
