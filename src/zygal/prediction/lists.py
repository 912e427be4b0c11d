"""Lists of images: text with one path per line, or a column of a CSV or Parquet table; in a file, at a URL, or from a
pipe."""

from __future__ import annotations

import csv
import io
import os
import stat
import sys
from collections.abc import Iterator
from dataclasses import dataclass
from typing import BinaryIO

from zygal.errors import FileError, some_of
from zygal.files.locations import check_location, is_url, open_location
from zygal.files.opening import existing_file, reason
from zygal.files.tables import PARQUET, PATH_WORDS, headed, parquet_columns
from zygal.machine.system import open_without_waiting

STANDARD_INPUT = "-"
CSV = ".csv"
LONGEST_NAME = 65_536
PATIENCE_SECONDS = 10.0
"""How long somebody who writes into a pipe is waited for before the first name."""


@dataclass(frozen=True)
class ImageList:
    """where: a file, a URL, or "-" for standard input. column: of a table, the column of paths; unless given, the only
    one or one that is called path, file, filename, image or the like."""

    where: str
    column: str | None = None

    @property
    def is_stream(self) -> bool:
        """Whether it can be read once only, and nobody knows how long it is."""
        if self.where == STANDARD_INPUT:
            return True
        try:
            return not is_url(self.where) and stat.S_ISFIFO(os.stat(self.where).st_mode)
        except (OSError, ValueError):
            return False

    @property
    def is_table(self) -> bool:
        """Whether it is a table with columns."""
        return self._ending in (CSV, PARQUET)

    @property
    def _ending(self) -> str:
        return os.path.splitext(self.where.partition("::")[0])[1].lower()

    def check(self) -> None:
        """Raises FileError if it is not there."""
        if self.column is not None and not self.is_table:
            raise FileError(
                f"--column names a column of a .csv or .parquet list, but {self.where} is a list of lines; "
                f"leave it out."
            )
        if is_url(self.where):
            check_location(self.where)
        elif not self.is_stream:
            existing_file(self.where)

    def __iter__(self) -> Iterator[str]:
        if self.where == STANDARD_INPUT:
            yield from _lines(sys.stdin.buffer, "standard input")
            return
        with _open_pipe(self.where) if self.is_stream else open_location(self.where) as file:
            if not self.is_table:
                yield from _lines(file, self.where)
            else:
                yield from self._of_parquet(file) if self._ending == PARQUET else self._of_csv(file)

    def _of_csv(self, file: BinaryIO) -> Iterator[str]:
        with io.TextIOWrapper(file, "utf-8-sig", newline="") as text:
            try:
                head = text.readline(LONGEST_NAME)
                delimiter = max(",;\t", key=head.count)
                names = [name.strip() for name in next(csv.reader([head], delimiter=delimiter), [])]
                place = names.index(self._chosen(names))
                for number, row in enumerate(csv.reader(text, delimiter=delimiter), 2):
                    if row and len(row) != len(names):
                        raise FileError(
                            f"{self.where} has {len(row)} columns in row {number}, but {len(names)} in the "
                            f"heading; fix that row."
                        )
                    if row:
                        yield self._named(row[place].strip(), number)
            except (UnicodeDecodeError, csv.Error) as fault:
                raise FileError(f"{self.where} is not a CSV in UTF-8 ({fault}).") from fault

    def _of_parquet(self, file: BinaryIO) -> Iterator[str]:
        _, batches = parquet_columns(file, self.where, FileError, lambda names: [self._chosen(names)])
        number = 0
        for batch in batches:
            for (name,) in batch:
                number += 1
                yield self._named(name, number)

    def _chosen(self, names: list[str]) -> str:
        if self.column is not None:
            if self.column in names:
                return self.column
            raise FileError(f"{self.where} has no column {self.column} (its columns: {some_of(names, 8)}).")
        found = [names[place] for place in headed(names, PATH_WORDS)]
        if not found:
            raise FileError(
                f"{self.where} has no column named path (its columns: {some_of(names, 8)}); name the column of "
                f"the images with --column."
            )
        return found[0]

    def _named(self, name: str, row: int) -> str:
        if not name or "\0" in name or len(name) > LONGEST_NAME:
            raise FileError(f"{self.where} names no image in row {row}; fix that row or take it out.")
        return name


def _open_pipe(name: str) -> BinaryIO:
    """A pipe that somebody writes into. One that nobody has opened is empty, and is not waited for."""
    try:
        return os.fdopen(open_without_waiting(name, PATIENCE_SECONDS), "rb")
    except OSError as fault:
        raise FileError(f"{name} cannot be read: {reason(fault)}; check the path.") from fault


def _lines(file: BinaryIO, where: str) -> Iterator[str]:
    while line := file.readline(LONGEST_NAME + 1):
        if len(line) > LONGEST_NAME or b"\0" in line:
            raise FileError(
                f"{where} is not a list of files with one path per line: a line is longer than a path can be, "
                f"or holds zero bytes."
            )
        name = os.fsdecode(line.rstrip(b"\r\n"))
        if name.strip():
            yield name
