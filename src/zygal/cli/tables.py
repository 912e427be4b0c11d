"""How text and tables are laid out on a console of any width."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

LEAST_WIDTH, PADDING = 14, 3
"""What a table on a narrow terminal leaves for a column of names."""


def show_facts(out, title: str, rows: Sequence[tuple[str, str]]) -> None:
    """A title, and below it one fact per line, the names in a column of their own."""
    from rich.text import Text

    out.print(Text(title, style="bold"))
    width = max((len(name) for name, _ in rows), default=0)
    for name, fact in rows:
        lines = [line for part in fact.splitlines() for line in _wrapped(part, out.width - width - 4)]
        for number, line in enumerate(lines or [""]):
            label = Text(f"  {name if not number else '':<{width}}  ", style="cyan")
            out.print(label.append(line, style="default"), soft_wrap=True)


def show_sentence(out, text: str, style: str = "") -> None:
    """A sentence, wrapped at words."""
    from rich.text import Text

    for line in _wrapped(text, out.width):
        out.print(Text(line, style=style), soft_wrap=True)


def show_command(out, lead: str, command: str) -> None:
    """A command to paste, never wrapped, on a line of its own."""
    from rich.text import Text

    out.print()
    out.print(Text(lead, style="bold"))
    out.print(Text(f"  {command}", style="cyan"), soft_wrap=True)


def _wrapped(text: str, width: int) -> list[str]:
    """Lines of at most `width`; a number stays with its unit."""
    import re
    from textwrap import wrap

    # Spaces at which a line must not be broken.
    text = re.sub(r"(?<=\d) (?=(%|ms|s|MB|kB|GB|grey|images/s|points)\b|%)", "\N{NO-BREAK SPACE}", text)
    lines = wrap(text, max(width, 20), break_on_hyphens=False, break_long_words=False) or [""]
    return [line.replace("\N{NO-BREAK SPACE}", " ") for line in lines]


def show_table(
    out, columns: Sequence[str], rows: Sequence[Sequence[Any]], left: int = 1, optional: Sequence[str] = ()
) -> None:
    """A table whose first `left` columns are aligned left and the others right.

    Where it is wider than the console, columns named in `optional` are left out, the last one first; nothing is cut
    off.
    """
    from rich import box
    from rich.table import Table

    shown = list(range(len(columns)))
    needed = [_least_width(columns[index], [row[index] for row in rows], index < left) for index in shown]
    for name in reversed(optional):
        if sum(needed[index] + PADDING for index in shown) - PADDING <= out.width:
            break
        shown = [index for index in shown if columns[index] != name]
    fits = sum(needed[index] + PADDING for index in shown) - PADDING <= out.width
    table = Table(box=box.SIMPLE_HEAD, pad_edge=False, padding=(0, 1), header_style="cyan", show_edge=False)
    for index in shown:
        is_left = index < left
        table.add_column(
            columns[index],
            justify="left" if is_left else "right",
            overflow="fold",
            no_wrap=not is_left and fits,
            min_width=min(needed[index], LEAST_WIDTH) if is_left else None,
        )
    for row in rows:
        table.add_row(*(row[index] for index in shown))
    out.print(table)
    out.print()


def _least_width(name: str, cells: Sequence[Any], is_left: bool) -> int:
    """Columns on the left may wrap at LEAST_WIDTH; the numbers of the others stay whole."""
    longest = max((len(line) for cell in (name, *cells) for line in str(cell).splitlines()), default=0)
    return min(longest, LEAST_WIDTH) if is_left else longest
