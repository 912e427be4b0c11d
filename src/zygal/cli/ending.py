"""How the process meets the system: its standard streams, which may be closed or full, and the signals that end it."""

from __future__ import annotations

import os
import signal
import sys
import threading
from collections.abc import Iterator
from contextlib import contextmanager

from zygal.errors import one_line
from zygal.outcome import TERMINATED


class Terminated(KeyboardInterrupt):
    """SIGTERM, handled like Ctrl-C, so that temporary files are removed."""

    exit_code = TERMINATED


def open_standard_streams() -> None:
    """Gives closed standard streams a place to go, so that no file that is opened later takes theirs."""
    for number, name in enumerate(("stdin", "stdout", "stderr")):
        try:
            os.fstat(number)
        except OSError:
            os.open(os.devnull, os.O_RDWR)  # The lowest number that is free is this one.
        if getattr(sys, name) is None:
            setattr(sys, name, open(os.devnull, "r" if number == 0 else "w"))  # noqa: SIM115
    for stream in (sys.stdout, sys.stderr):
        # Names of files need not be text; what cannot be printed is spelt out.
        if hasattr(stream, "reconfigure"):
            stream.reconfigure(errors="backslashreplace")


def finish_output(to_nowhere: bool = False) -> None:
    """Writes out what is buffered; `to_nowhere` drops it where the stream cannot be written any more. Raises
    OSError."""
    if not to_nowhere:
        sys.stdout.flush()
        return
    for stream in (sys.stdout, sys.stderr):
        try:
            stream.flush()
        except (OSError, ValueError):
            os.dup2(os.open(os.devnull, os.O_WRONLY), stream.fileno())


def complain(sentence: str, code: int) -> int:
    """One line on standard error, if that can be written at all; the exit code."""
    try:
        print(f"zygal: {one_line(sentence)}", file=sys.stderr, flush=True)
    except (OSError, ValueError):
        finish_output(to_nowhere=True)
    return code


class Signals:
    """Whether a signal arrived: an import that was cut off by one may say that something else is wrong."""

    def __init__(self) -> None:
        self.interrupted = self.terminated = False

    def interrupt(self, number: int, frame) -> None:
        """Handles SIGINT."""
        self.interrupted = True
        raise KeyboardInterrupt

    def terminate(self, number: int, frame) -> None:
        """Handles SIGTERM."""
        self.terminated = True
        raise Terminated


@contextmanager
def catch_signals() -> Iterator[Signals]:
    """Ctrl-C and SIGTERM come as exceptions inside the block. Only the main thread can see to signals."""
    signals = Signals()
    if threading.current_thread() is not threading.main_thread():
        yield signals
        return
    before = {number: signal.getsignal(number) for number in (signal.SIGINT, signal.SIGTERM)}
    try:
        if before[signal.SIGINT] is not signal.SIG_IGN:
            signal.signal(signal.SIGINT, signals.interrupt)
        if before[signal.SIGTERM] is not signal.SIG_IGN:
            signal.signal(signal.SIGTERM, signals.terminate)
        yield signals
    finally:
        for number, handler in before.items():
            if handler is not None:
                signal.signal(number, handler)
