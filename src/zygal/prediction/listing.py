"""Which images are meant: files, folders and lists, in one fixed order and without being held in memory."""

from __future__ import annotations

import os
import select
import stat
import sys
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import BinaryIO

from zygal.errors import FileError
from zygal.files import existing_file, files_below, open_file, reason

STANDARD_INPUT = "-"
LONGEST_NAME = 65_536
PATIENCE_SECONDS = 10.0
"""How long somebody who writes into a pipe is waited for before the first name."""


@dataclass(frozen=True)
class Listing:
    """paths: files and folders, in the order given. lists: text files that name one file a line, "-" for standard input,
    after them. skip: patterns of names that are passed over in folders. without: files that
    are not among them though they lie there, such as what is being written.

    Of a folder every file counts, whatever its name ends in, but for hidden ones; folders are gone through in the order of
    the names' code points.
    """

    paths: Sequence[str] = ()
    lists: Sequence[str] = ()
    skip: Sequence[str] = ()
    without: Sequence[str] = ()

    def check(self) -> None:
        """Raises FileError if a path or a list is not there, or there is nothing at all."""
        for path in self.paths:
            if not os.path.lexists(path):
                raise FileError(f"{path} does not exist; check the path.")
            if os.path.isdir(path) and not os.access(path, os.R_OK | os.X_OK):
                raise FileError(f"{path} cannot be read: permission denied.")
        for each in self.lists:
            if not _is_stream(each):
                existing_file(each)
        if not self.paths and not self.lists:
            raise FileError("no images are named; give image files, folders, or --list FILE.")
        if not self._streams() and next(iter(self), None) is None:
            where = ", ".join([*self.paths, *self.lists])
            raise FileError(f"{where} holds no files; check the path.")

    def _streams(self) -> bool:
        """Whether some names come from what can be read only once."""
        return any(_is_stream(each) for each in self.lists)

    def count(self) -> int | None:
        """How many files there are; None if some come from what can be read only once."""
        return None if self._streams() else sum(1 for _ in self)

    def __iter__(self) -> Iterator[str]:
        own = {os.path.abspath(each) for each in self.without}
        for path in self.paths:
            if os.path.isdir(path):
                yield from (found for found in files_below(path, self.skip) if os.path.abspath(found) not in own)
            else:
                yield path
        for each in self.lists:
            if each == STANDARD_INPUT:
                yield from _lines(sys.stdin.buffer, "standard input")
            elif _is_stream(each):
                with _open_pipe(each) as file:
                    yield from _lines(file, each)
            else:
                with open_file(each) as file:
                    yield from _lines(file, each)


def _is_stream(name: str) -> bool:
    """Whether a list comes from standard input or a pipe: it can be read once, and nobody knows how long it is."""
    if name == STANDARD_INPUT:
        return True
    try:
        return stat.S_ISFIFO(os.stat(name).st_mode)
    except (OSError, ValueError):
        return False


def _open_pipe(name: str) -> BinaryIO:
    """A pipe that somebody writes into. One that nobody has opened is empty, and is not waited for."""
    try:
        handle = os.open(name, os.O_RDONLY | os.O_NONBLOCK)
    except OSError as fault:
        raise FileError(f"{name} cannot be read: {reason(fault)}; check the path.") from fault
    select.select([handle], [], [], PATIENCE_SECONDS)
    os.set_blocking(handle, True)
    return os.fdopen(handle, "rb")


def _lines(file: BinaryIO, where: str) -> Iterator[str]:
    while line := file.readline(LONGEST_NAME + 1):
        if len(line) > LONGEST_NAME or b"\0" in line:
            raise FileError(f"{where} is not a list of files with one path per line: a line is longer than a path can be, or holds zero bytes.")
        name = os.fsdecode(line.rstrip(b"\r\n"))
        if name.strip():
            yield name
