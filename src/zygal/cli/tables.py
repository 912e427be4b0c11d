"""How text and tables are laid out on a console of any width."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

LEAST_WIDTH = 14
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
    from textwrap import wrap

    return wrap(text, max(width, 20), break_on_hyphens=False, break_long_words=False) or [""]


def show_table(out, columns: Sequence[str], rows: Sequence[Sequence[Any]], left: int = 1) -> None:
    """A table whose first `left` columns are aligned left and the others right."""
    from rich import box
    from rich.table import Table

    table = Table(box=box.SIMPLE_HEAD, pad_edge=False, padding=(0, 1), header_style="cyan", show_edge=False)
    for index, name in enumerate(columns):
        longest = max((len(line) for row in rows for line in str(row[index]).splitlines()), default=0)
        table.add_column(name, justify="left" if index < left else "right", overflow="fold", no_wrap=index >= left,
                         min_width=min(longest, LEAST_WIDTH) if index < left else None)  # fmt: skip
    for row in rows:
        table.add_row(*row)
    out.print(table)
    out.print()
