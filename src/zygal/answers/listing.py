"""Which images are asked for: files, folders, and lists, gone through in one fixed order without being held in memory."""

from __future__ import annotations

import os
import sys
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from fnmatch import fnmatch

from zygal.errors import FileError
from zygal.files import existing_file

STANDARD_INPUT = "-"


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
            if each != STANDARD_INPUT:
                existing_file(each)
        if not self.paths and not self.lists:
            raise FileError("no images are named; give image files, folders, or --list FILE.")
        if STANDARD_INPUT not in self.lists and next(iter(self), None) is None:
            where = ", ".join([*self.paths, *self.lists])
            raise FileError(f"{where} holds no files; check the path.")

    def count(self) -> int | None:
        """How many files there are; None if they come from standard input."""
        return None if STANDARD_INPUT in self.lists else sum(1 for _ in self)

    def __iter__(self) -> Iterator[str]:
        for path in self.paths:
            if os.path.isdir(path):
                own = {os.path.abspath(each) for each in self.without}
                yield from (found for found in _files_below(path, self.skip) if os.path.abspath(found) not in own)
            else:
                yield path
        for each in self.lists:
            if each == STANDARD_INPUT:
                yield from _lines(sys.stdin.buffer)
            else:
                with open(each, "rb") as file:
                    yield from _lines(file)


def _lines(file) -> Iterator[str]:
    for line in file:
        name = os.fsdecode(line.rstrip(b"\r\n"))
        if name.strip():
            yield name


def _files_below(folder: str, skip: Sequence[str]) -> Iterator[str]:
    try:
        with os.scandir(folder) as entries:
            # A folder is where its name with the stroke behind it belongs, so that the order is that of whole paths.
            found = sorted(
                each.name + "/" if each.is_dir(follow_symlinks=False) else each.name
                for each in entries
                if not each.name.startswith(".")
            )
    except OSError as fault:
        raise FileError(f"{folder} cannot be read: {(fault.strerror or str(fault)).lower()}.") from fault
    for name in found:
        if any(fnmatch(name.rstrip("/"), pattern) for pattern in skip):
            continue
        path = os.path.join(folder, name.rstrip("/"))
        if name.endswith("/"):
            yield from _files_below(path, skip)
        else:
            yield path
