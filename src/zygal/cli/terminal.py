"""The terminal: the report on stdout, notes and progress on stderr, the JSON document in a file or on stdout."""

from __future__ import annotations

import os
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from zygal.errors import one_line, printable, without_secrets
from zygal.files.documents import json_text
from zygal.files.writing import whole_file
from zygal.listener import Listener
from zygal.wording import clean_sentence, duration, grouped, rate

PLAIN_WIDTH = 116
LONGEST_NOTE = 600
PROGRESS_SECONDS = 5.0
"""Without a terminal, a line of progress is written this often."""
STDOUT = "-"


def console(stream=None, color: str = "auto", width: int | None = None):
    """A rich console on stdout, or on another stream; where the stream is not a terminal it has a fixed width.

    Whatever is shown on it, a file name for instance, cannot control the terminal.
    """
    from rich.console import Console
    from rich.segment import Segment

    class Printable(Console):
        def render(self, renderable, options=None):
            for segment in super().render(renderable, options):
                yield segment if segment.control else Segment(printable(segment.text), segment.style)

    stream = stream or sys.stdout
    if width is None and not stream.isatty() and "COLUMNS" not in os.environ:
        width = PLAIN_WIDTH
    return Printable(
        file=stream,
        width=width,
        highlight=False,
        soft_wrap=False,
        markup=False,
        emoji=False,
        force_terminal=True if color == "always" else None,
        no_color=True if color == "never" else None,
    )


def note(sentence: str, kind: str = "note") -> None:
    """A sentence on stderr that the user should read."""
    print(f"zygal: {kind}: {one_line(without_secrets(clean_sentence(sentence)), LONGEST_NOTE)}", file=sys.stderr)


def write_json(path: str, document: dict[str, Any]) -> None:
    """Writes the document into a file, whole or not at all, or to stdout. Numbers that are not finite become null."""
    data = json_text(document).encode("utf-8", "backslashreplace")
    if path == STDOUT:
        sys.stdout.write(data.decode())
        return
    with whole_file(path) as file:
        file.write(data)


class TerminalListener(Listener):
    """Progress on stderr: a bar on a terminal, else a line every few seconds. verbose: also what is being done, with
    times."""

    def __init__(self, quiet: bool, verbose: bool, color: str = "auto"):
        self.quiet, self.verbose, self.color, self.reports = quiet, verbose, color, True
        self._started = self._last = time.monotonic()
        self._bar = self._task = None
        self._step = ""
        self._first: tuple[int, float] | None = None

    def step(self, name: str, fraction: float = 0.0) -> None:
        """See `Listener.step`."""
        self._entered(name)
        if self._draws():
            self._show(name, fraction, 1.0)
        else:
            self._line(f"{name}: {100 * fraction:.0f} %")

    def count(self, name: str, done: int, total: int | None) -> None:
        """See `Listener.count`."""
        self._entered(name)
        if self._first is None:
            self._first = done, time.monotonic()
        begun, since = self._first
        per_second = (done - begun) / max(time.monotonic() - since, 1e-9)
        text = f"{name}: {grouped(done)}" + ("" if total is None else f" of {grouped(total)}")
        if done > begun:
            text += f", {rate(per_second)} {name}/s"
            text += "" if total is None else f", {duration((total - done) / per_second)} left"
        if self._draws():
            self._show(text, done, total)
        else:
            self._line(text)

    def note(self, sentence: str) -> None:
        """See `Listener.note`."""
        if not self.quiet:
            note(sentence)

    def detail(self, text: str) -> None:
        """See `Listener.detail`."""
        if self.verbose:
            print(
                f"zygal: {duration(time.monotonic() - self._started):>9}  {one_line(without_secrets(text))}",
                file=sys.stderr,
            )

    def close(self) -> None:
        """Removes the bar."""
        if self._bar is not None:
            self._bar.stop()
            self._bar = None
        if self._step:
            self.detail(f"done: {self._step}")

    def _entered(self, name: str) -> None:
        if name != self._step:
            if self._step:
                self.detail(f"done: {self._step}")
            self._step = name
            self.detail(f"started: {name}")

    def _draws(self) -> bool:
        return sys.stderr.isatty() and not self.quiet

    def _line(self, text: str) -> None:
        now = time.monotonic()
        if not self.quiet and now - self._last >= PROGRESS_SECONDS:
            self._last = now
            print(f"zygal: {one_line(text)}", file=sys.stderr, flush=True)

    def _show(self, text: str, completed: float, total: float | None) -> None:
        if self._bar is None:
            from rich.progress import BarColumn, Progress, TextColumn

            columns = (BarColumn(), TextColumn("{task.description}", markup=False))
            self._bar = Progress(*columns, console=console(sys.stderr, self.color), transient=True)
            self._task = self._bar.add_task(text, total=total)
            self._bar.start()
        self._bar.update(self._task, description=printable(text), completed=completed, total=total)


@contextmanager
def listening(quiet: bool, verbose: bool, color: str) -> Iterator[TerminalListener]:
    """A listener whose progress bar is removed at the end."""
    listener = TerminalListener(quiet, verbose, color)
    try:
        yield listener
    finally:
        listener.close()
