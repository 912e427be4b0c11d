"""The program `zygal`: one verb each, one file a verb."""

from __future__ import annotations

import argparse
import os
import signal
import sys
from typing import NoReturn

from zygal import __version__
from zygal.cli import bench, classify, convert, demo, inlet, match, survey, tally, witness
from zygal.errors import ZygalError

HOLDS, BREAKS, AT_FAULT, INTERRUPTED = 0, 1, 2, 130
COMMANDS = (demo, survey, convert, witness, inlet, match, tally, classify, bench)


class _Parser(argparse.ArgumentParser):
    """A parser whose complaint is one sentence."""

    def error(self, message: str) -> NoReturn:
        self.exit(AT_FAULT, f"zygal: {message}; see {self.prog} --help.\n")


def main(arguments: list[str] | None = None) -> int:
    """Runs one command and returns its exit code."""
    for stream in (sys.stdout, sys.stderr):
        # Names of files need not be text; what cannot be printed is spelt out.
        if hasattr(stream, "reconfigure"):
            stream.reconfigure(errors="backslashreplace")
    parser = _Parser(
        prog="zygal",
        description="Turns a trained image classifier into a portable artifact, proves that both give the same "
        "answers, and says how fast the artifact is.",
        epilog="Exit codes: 0 all is well, 1 a gate broke, 2 the input or the call is at fault, 130 interrupted.",
    )
    parser.add_argument("--version", action="version", version=f"zygal {__version__}")
    commands = parser.add_subparsers(metavar="COMMAND", required=True, parser_class=_Parser)
    for command in COMMANDS:
        command.register(commands)
    options, others = parser.parse_known_args(arguments)
    if others:
        # Paths may come behind options as well as before them, which argparse does not see in a subcommand.
        if not hasattr(options, "paths") or any(each.startswith("-") for each in others):
            parser.error(f"unrecognized arguments: {' '.join(others)}")
        options.paths += others
    # A polite request to end is answered like Ctrl-C, so that temporary files are removed.
    signal.signal(signal.SIGTERM, signal.default_int_handler)
    try:
        return options.run(options)
    except ZygalError as fault:
        print(f"zygal: {fault}", file=sys.stderr)
        return AT_FAULT
    except KeyboardInterrupt:
        print("zygal: interrupted; nothing was left half-written.", file=sys.stderr)
        return INTERRUPTED
    except BrokenPipeError:
        # The reader of our output went away, as `head` does; what is still buffered goes nowhere.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return HOLDS
    except MemoryError:
        print("zygal: there is not enough memory for this; use smaller batches or fewer images.", file=sys.stderr)
        return AT_FAULT
