"""zygal signoff: everything that a plan says must hold, and one page."""

from __future__ import annotations

from zygal.cli.command import Command, default_of
from zygal.cli.options import finish_parser, new_parser
from zygal.signoff.command import SignoffRequest

SUMMARY = "Measures everything that a plan says must hold of an artifact, and writes one page with the verdict."
COMMAND = Command(SignoffRequest, "zygal.signoff.command", "zygal.cli.reports.signoff")


def register(commands) -> None:
    parser = new_parser(commands, "signoff", SUMMARY, "zygal signoff signoff.toml")
    plan = default_of(SignoffRequest, "plan")
    parser.add_argument(
        "plan", metavar="PLAN", nargs="?", default=plan, help=f"the plan, a TOML file (default: {plan})"
    )
    parser.add_argument("--new", action="store_true", help="write a commented plan there, from the files in its folder")
    parser.add_argument(
        "-o",
        "--output",
        metavar="DIR",
        help="folder for page.html, result.json and junit.xml (default: PLAN.signoff, in the folder of the plan)",
    )
    parser.add_argument(
        "--against", metavar="FILE", help="the result.json of an earlier run: say what has changed since"
    )
    parser.add_argument(
        "--fresh",
        action="store_true",
        help="compute everything again; otherwise what is unchanged is taken from the last run",
    )
    parser.add_argument(
        "--reuse-speed",
        action="store_true",
        help="take the speed of the last run too, if artifact, settings, versions and machine are the same",
    )
    parser.add_argument("--allow-outside", action="store_true", help="let the plan name files outside its folder")
    parser.add_argument(
        "--run-code", action="store_true", help="let the plan name a source FILE.py:FUNCTION, which is run"
    )
    finish_parser(parser, COMMAND)
