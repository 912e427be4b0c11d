"""Small tables that people write: CSV with commas, semicolons or tabs, with or without a heading."""

from __future__ import annotations

import csv
from collections.abc import Sequence
from pathlib import Path

from zygal.errors import ZygalError


def read_table(text: str, path: str | Path, error: type[ZygalError], row_is: str) -> list[list[str]]:
    """The rows of a table, all of one width; `row_is` says what a row stands for. Raises `error`."""
    first = text.lstrip("\r\n").partition("\n")[0]
    delimiter = max(",;\t", key=first.count)
    try:
        rows = [
            [cell.strip() for cell in row]
            for row in csv.reader(text.splitlines(), delimiter=delimiter)
            if any(cell.strip() for cell in row)
        ]
    except csv.Error as fault:
        raise error(f"{path} is not a table ({fault}).") from fault
    if not rows:
        raise error(f"{path} is empty; give a CSV with a row for {row_is}.")
    for number, row in enumerate(rows, 1):
        if len(row) != len(rows[0]):
            raise error(f"{path} has {len(row)} columns in row {number}, but {len(rows[0])} in the first; fix that row.")
    return rows


def headed(head: Sequence[str], words: Sequence[str]) -> list[int]:
    """The columns whose heading is one of some words, in the order of the words."""
    lower = [cell.lower() for cell in head]
    return [position for word in words for position, cell in enumerate(lower) if cell == word]


def is_number(cell: str) -> bool:
    """Whether a cell is a whole number that could be an index."""
    return cell.isascii() and cell.isdigit() and len(cell) < 16
