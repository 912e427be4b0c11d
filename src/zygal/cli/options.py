"""Options that several commands share."""

from __future__ import annotations

import argparse


def new_command(commands, name: str, summary: str, example: str) -> argparse.ArgumentParser:
    """A subcommand with its help text and an example on the demo's files."""
    command = commands.add_parser(
        name,
        help=summary[0].lower() + summary[1:].rstrip("."),
        description=summary,
        epilog=f"example, in the folder that zygal demo writes:\n  {example}",
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    command.add_argument("--json", metavar="FILE", help="write the full result there, with units in the key names")
    return command


def number_list(text: str) -> list[int]:
    """Whole numbers separated by commas, for argparse."""
    try:
        return [int(part) for part in text.split(",")]
    except ValueError:
        raise argparse.ArgumentTypeError(f"{text!r} is not a list of whole numbers like 1,2,4") from None
