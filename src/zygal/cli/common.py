"""The options that every command has. They may stand before and behind the command's name, so none has a default of its
own."""

from __future__ import annotations

import argparse

from zygal.errors import OutputError

DEFAULTS = {"json": None, "overwrite": False, "quiet": False, "verbose": False, "traceback": False, "color": "auto"}


def add_common(parser: argparse.ArgumentParser) -> None:
    """Adds them as a group of their own."""
    group = parser.add_argument_group("common options")
    absent = argparse.SUPPRESS
    group.add_argument(
        "--json",
        metavar="FILE",
        default=absent,
        help="write the full result as JSON; - writes it to stdout instead of the report",
    )
    group.add_argument(
        "--overwrite",
        action="store_true",
        default=absent,
        help="replace existing output files, whatever they are (without it, only files of the same kind)",
    )
    group.add_argument("-q", "--quiet", action="store_true", default=absent, help="print only errors")
    group.add_argument(
        "-v",
        "--verbose",
        action="store_true",
        default=absent,
        help="print what is being done, with times, and the defaults of zygal.toml",
    )
    group.add_argument(
        "--traceback", action="store_true", default=absent, help="show the Python traceback of an internal error"
    )
    group.add_argument(
        "--color",
        choices=("auto", "always", "never"),
        default=absent,
        help="colors in the report (auto: only on a terminal)",
    )


def fill_common(options: argparse.Namespace) -> None:
    """Gives the common options that were not given their defaults. Raises OutputError for a contradiction."""
    for name, default in DEFAULTS.items():
        if not hasattr(options, name):
            setattr(options, name, default)
    if options.quiet and options.verbose:
        raise OutputError("-q and -v contradict each other; give one of them.")
