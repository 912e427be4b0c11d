"""The program `zygal`: one verb each, one file a verb."""

from __future__ import annotations

import argparse
import os
import sys
import traceback
from typing import NoReturn

from zygal import __version__
from zygal.__main__ import INTERRUPTED, TERMINATED
from zygal.cli import bench, classify, convert, demo, inlet, match, survey, tally, witness
from zygal.cli.ending import Terminated, catch_signals, finish_output, open_standard_streams
from zygal.errors import ZygalError, one_line

HOLDS, BREAKS, AT_FAULT, INTERNAL = 0, 1, 2, 70
COMMANDS = (demo, survey, convert, witness, inlet, match, tally, classify, bench)
TRACEBACK = "ZYGAL_TRACEBACK"
"""The environment variable that makes an internal error show where it happened."""


class _Parser(argparse.ArgumentParser):
    """A parser whose complaint is one sentence."""

    def error(self, message: str) -> NoReturn:
        self.exit(AT_FAULT, f"zygal: {one_line(message)}; see {self.prog} --help.\n")

    def _print_message(self, message: str, file=None) -> None:
        # Unlike argparse's own: that help could not be written is not passed over.
        if message:
            (file or sys.stderr).write(message)


def main(arguments: list[str] | None = None) -> int:
    """Runs one command and returns its exit code."""
    open_standard_streams()
    with catch_signals() as signals:
        try:
            try:
                code = _run(arguments)
            except SystemExit as end:  # Help, the version, or a complaint of the parser.
                code = end.code
            finish_output()
            return code
        except ZygalError as fault:
            return _complain(str(fault), AT_FAULT)
        except KeyboardInterrupt as end:
            return _interrupted(isinstance(end, Terminated))
        except BrokenPipeError:
            # The reader of our output went away, as `head` does; what is still buffered goes nowhere.
            finish_output(to_nowhere=True)
            return HOLDS
        except MemoryError:
            return _complain("there is not enough memory for this; use smaller batches or fewer images.", AT_FAULT)
        except OSError as fault:
            if fault.filename is not None:
                return _internal(fault)
            finish_output(to_nowhere=True)
            return _complain(f"the output cannot be written ({(fault.strerror or str(fault)).lower()}).", AT_FAULT)
        except Exception as fault:  # Whatever it is, the user gets a sentence.
            if signals.interrupted or signals.terminated:
                return _interrupted(signals.terminated)
            return _internal(fault)


def _interrupted(terminated: bool) -> int:
    by = " by a request to end (SIGTERM)" if terminated else ""
    return _complain(f"interrupted{by}; nothing was left half-written.", TERMINATED if terminated else INTERRUPTED)


def _run(arguments: list[str] | None) -> int:
    parser = _Parser(
        prog="zygal",
        description="Turns a trained image classifier into a portable artifact, proves that both give the same "
        "answers, and says how fast the artifact is.",
        epilog="Exit codes: 0 all is well, 1 a gate broke, 2 the input or the call is at fault, 70 internal error, "
        "130 and 143 interrupted.",
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
    return options.run(options)


def _complain(sentence: str, code: int) -> int:
    """One line on standard error, if that can be written at all."""
    try:
        print(f"zygal: {one_line(sentence)}", file=sys.stderr, flush=True)
    except (OSError, ValueError):
        finish_output(to_nowhere=True)
    return code


def _internal(fault: Exception) -> int:
    if os.environ.get(TRACEBACK):
        traceback.print_exc()
    return _complain(
        f"internal error: {type(fault).__name__}: {one_line(str(fault), 200)}; please report it with the command and the "
        f"file that you gave ({TRACEBACK}=1 shows where it happened).",
        INTERNAL,
    )
