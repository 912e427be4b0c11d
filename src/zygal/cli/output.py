"""How results look: tables and facts on stdout, progress and warnings on stderr, JSON in files."""

from __future__ import annotations

import json
import math
import os
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any

from zygal.errors import one_line, printable
from zygal.files import check_writable, whole_file

PLAIN_WIDTH = 116
LONGEST_NOTE = 600
LEAST_WIDTH = 14
"""What a table on a narrow terminal leaves of a column of names."""


def console(stderr: bool = False):
    """A rich console; where the output is no terminal it is plain and of a fixed width.

    Whatever is shown on it, a file's name for instance, cannot steer the terminal.
    """
    from rich.console import Console
    from rich.segment import Segment

    class Printable(Console):
        def render(self, renderable, options=None):
            for segment in super().render(renderable, options):
                yield segment if segment.control else Segment(printable(segment.text), segment.style)

    stream = sys.stderr if stderr else sys.stdout
    width = None if stream.isatty() or "COLUMNS" in os.environ else PLAIN_WIDTH
    return Printable(file=stream, width=width, highlight=False, soft_wrap=False, markup=False, emoji=False)


def show_facts(out, title: str, rows: list[tuple[str, str]]) -> None:
    """A title and below it one fact a line, the names in a column of their own."""
    from rich.text import Text

    out.print(Text(title, style="bold"))
    width = max(len(name) for name, _ in rows)
    for name, fact in rows:
        lines = [line for part in fact.splitlines() for line in _wrapped(part, out.width - width - 4)]
        for place, line in enumerate(lines or [""]):
            label = Text(f"  {name if not place else '':<{width}}  ", style="cyan")
            out.print(label.append(line, style="default"), soft_wrap=True)


def _wrapped(text: str, width: int) -> list[str]:
    from textwrap import wrap

    return wrap(text, max(width, 20), break_on_hyphens=False, break_long_words=False) or [""]


def show_table(out, columns: list[str], rows: list[list[Any]], left: int = 1) -> None:
    """A table whose first `left` columns are aligned to the left and the others to the right."""
    from rich import box
    from rich.table import Table

    table = Table(box=box.SIMPLE_HEAD, pad_edge=False, padding=(0, 1), header_style="cyan", show_edge=False)
    for place, name in enumerate(columns):
        longest = max((len(line) for row in rows for line in str(row[place]).splitlines()), default=0)
        table.add_column(name, justify="left" if place < left else "right", overflow="fold", no_wrap=place >= left,
                         min_width=min(longest, LEAST_WIDTH) if place < left else None)  # fmt: skip
    for row in rows:
        table.add_row(*row)
    out.print(table)
    out.print()


def warn(sentence: str) -> None:
    """A sentence on stderr that the user should read."""
    print(f"zygal: note: {one_line(sentence, LONGEST_NOTE)}.", file=sys.stderr)


@contextmanager
def progress_bar(what: str) -> Iterator[Callable[[str, float], None]]:
    """Gives a function (what, part done from 0 to 1); it draws on a terminal and nowhere else."""
    if not sys.stderr.isatty():
        yield lambda what, part: None
        return
    from rich.progress import Progress

    with Progress(console=console(stderr=True), transient=True) as progress:
        task = progress.add_task(what, total=1.0)
        yield lambda what, part: progress.update(task, description=what, completed=part)


@contextmanager
def counting_bar(what: str, total: int | None, done: int = 0) -> Iterator[Callable[[int], None]]:
    """Gives a function that is told how many more are done; on a terminal it shows the rate and the time left."""
    if not sys.stderr.isatty():
        yield lambda more: None
        return
    from rich.progress import BarColumn, MofNCompleteColumn, Progress, ProgressColumn, TextColumn, TimeRemainingColumn
    from rich.text import Text

    class Rate(ProgressColumn):
        def render(self, task):
            return Text("" if task.speed is None else f"{task.speed:.1f} a second")

    columns = (TextColumn(what), BarColumn(), MofNCompleteColumn(), Rate(), TimeRemainingColumn(), TextColumn("left"))
    with Progress(*columns, console=console(stderr=True), transient=True, speed_estimate_period=60) as progress:
        task = progress.add_task(what, total=total, completed=done)
        yield lambda more: progress.advance(task, more)


def check_json(path: str | None) -> None:
    """Raises OutputError if the JSON file cannot be written, before the work is done."""
    if path:
        check_writable(path)


def write_json(path: str | None, document: dict[str, Any]) -> None:
    """Writes the result if it was asked for. Numbers that are not finite become null."""
    if path:
        with whole_file(path) as file:
            file.write(
                (json.dumps(_plain(document), indent=2, ensure_ascii=False) + "\n").encode("utf-8", "backslashreplace")
            )


def _plain(value: Any) -> Any:
    if isinstance(value, dict):
        return {str(key): _plain(each) for key, each in value.items()}
    if isinstance(value, (list, tuple)):
        return [_plain(each) for each in value]
    if isinstance(value, float) and not math.isfinite(value):
        return None
    if value is None or isinstance(value, (str, int, float, bool)):
        return value
    return str(value)


def file_size(size: int) -> str:
    """Bytes in decimal units."""
    for unit, factor in (("GB", 1e9), ("MB", 1e6), ("kB", 1e3)):
        if size >= factor:
            return f"{size / factor:.1f} {unit}"
    return f"{size} bytes"


def counted(number: int, what: str) -> str:
    """A number with its noun: "1 image", "2 images", "2 classes"."""
    plural = what + ("es" if what.endswith("s") else "s")
    return f"{number:,} {what if number == 1 else plural}".replace(",", " ")


def short_number(value: float) -> str:
    """Three significant digits; an exponent only where plain digits would be long."""
    if abs(value) >= 1000:
        return f"{value:.0f}"
    return f"{value:.3g}" if value == 0 or abs(value) >= 1e-4 else f"{value:.1e}"
