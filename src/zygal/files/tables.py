"""Tables that people write: CSV with commas, semicolons or tabs, with or without a heading; or Parquet, whose columns
have names."""

from __future__ import annotations

import csv
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import BinaryIO

from zygal.errors import ZygalError, first_line, install_extra
from zygal.files.locations import open_location

PARQUET = ".parquet"
PATH_WORDS = ("path", "file", "filename", "file_name", "image", "image_path")
"""What people call the column of images."""
_ROWS_AT_ONCE = 10_000


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
            raise error(
                f"{path} has {len(row)} columns in row {number}, but {len(rows[0])} in the first; fix that row."
            )
    return rows


def table_rows(path: str, most_bytes: int, error: type[ZygalError], row_is: str) -> list[list[str]]:
    """The rows of a CSV or Parquet table in a file or at a URL, the heading first where it has one; all cells as text.

    `row_is` says what a row stands for. Raises `error`, or FileError if there is no such file.
    """
    with open_location(path) as file:
        if path.partition("::")[0].lower().endswith(PARQUET):
            head, batches = parquet_columns(file, path, error)
            return [list(head), *(list(row) for batch in batches for row in batch)]
        content = file.read(most_bytes + 1)
    if len(content) > most_bytes:
        raise error(f"{path} is larger than {most_bytes // 1_000_000} MB, too large for a table; give it as Parquet.")
    try:
        text = content.decode("utf-8-sig")
    except UnicodeDecodeError as fault:
        raise error(f"{path} is not text in UTF-8, so it is not a table (byte {fault.start}).") from fault
    return read_table(text, path, error, row_is)


def parquet_columns(
    file: BinaryIO, path: str, error: type[ZygalError], choose: Callable[[list[str]], list[str]] = list
) -> tuple[list[str], Iterator[Iterator[tuple[str, ...]]]]:
    """The columns of a Parquet file, and the values of those that are chosen of them as text, a group of rows at a
    time. Raises `error`."""
    try:
        import pyarrow
        from pyarrow.parquet import ParquetFile
    except ImportError as fault:
        raise error(
            f"{path} needs the package pyarrow, which is not installed; {install_extra('parquet')}, or give a CSV."
        ) from fault

    try:
        table = ParquetFile(file)
    except (pyarrow.ArrowException, OSError) as fault:
        raise error(f"{path} is not a Parquet file ({first_line(fault)}).") from fault

    names = list(table.schema_arrow.names)
    columns = choose(names)

    def batches() -> Iterator[Iterator[tuple[str, ...]]]:
        try:
            for batch in table.iter_batches(_ROWS_AT_ONCE, columns=columns):
                yield zip(*([_cell(value) for value in column.to_pylist()] for column in batch.columns))
        except (pyarrow.ArrowException, OSError, UnicodeDecodeError, ValueError, OverflowError) as fault:
            raise error(f"{path} is damaged ({first_line(fault)}).") from fault

    return names, batches()


def _cell(value: object) -> str:
    return "" if value is None else str(value).strip()


def headed(head: Sequence[str], words: Sequence[str]) -> list[int]:
    """The columns whose heading is one of some words, in the order of the words."""
    lower = [cell.lower() for cell in head]
    return [position for word in words for position, cell in enumerate(lower) if cell == word]


def is_number(cell: str) -> bool:
    """Whether a cell is a whole number that could be an index."""
    return cell.isascii() and cell.isdigit() and len(cell) < 16
