"""Which images are meant: files, folders and lists, in one fixed order and without being held in memory."""

from __future__ import annotations

import os
import select
import stat
import sys
import warnings
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import BinaryIO

from zygal.errors import FileError
from zygal.evidence.images import SUFFIXES
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

    Of a folder the files count whose names end like an image's, and others that are images by their content; hidden ones do not.
    Files that are named count whatever they are. Folders are gone through in the order of the names' code points.
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
        if not self.is_read_once and next(iter(self), None) is None:
            where = ", ".join([*self.paths, *self.lists])
            raise FileError(f"{where} holds no images; check the path.")

    @property
    def is_read_once(self) -> bool:
        """Whether some names come from what can be read only once."""
        return any(_is_stream(each) for each in self.lists)

    def count(self) -> int | None:
        """How many files there are; None if some come from what can be read only once."""
        return None if self.is_read_once else sum(1 for _ in self)

    def __iter__(self) -> Iterator[str]:
        own = {os.path.abspath(each) for each in self.without}
        for path in self.paths:
            if os.path.isdir(path):
                yield from (found for found in files_below(path, self.skip) if os.path.abspath(found) not in own and may_be_image(found))
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


    def passed_over(self) -> list[str]:
        """The files in the folders that are no images by their content."""
        own = {os.path.abspath(each) for each in self.without}
        folders = [path for path in self.paths if os.path.isdir(path)]
        found = (each for folder in folders for each in files_below(folder, self.skip))
        return [each for each in found if os.path.abspath(each) not in own and not may_be_image(each)]


def may_be_image(path: str) -> bool:
    """Whether a file's name ends like an image's, or its content is one's. What cannot be opened may be one."""
    if os.path.splitext(path)[1].lower() in SUFFIXES:
        return True
    from PIL import Image, UnidentifiedImageError

    try:
        with warnings.catch_warnings():
            # How large it is matters when it is read.
            warnings.simplefilter("ignore")
            with open_file(path) as file, Image.open(file):
                return True
    except (UnidentifiedImageError, SyntaxError, ValueError, EOFError):
        return False
    except FileError:
        return not os.path.exists(path) or stat.S_ISREG(os.stat(path).st_mode)
    except Exception:  # A decoder that recognised its format and failed on the rest.
        return True


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
