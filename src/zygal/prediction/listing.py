"""Which images are meant: files, folders and lists, here or at URLs, in one fixed order and without being held in
memory."""

from __future__ import annotations

import os
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from zygal.errors import FileError
from zygal.files.locations import check_location, is_folder, is_url, joined, names_below
from zygal.files.opening import files_below
from zygal.inlet.images import SUFFIXES, may_be_image
from zygal.prediction.lists import ImageList


@dataclass(frozen=True)
class Listing:
    """paths: files and folders, in the order given; any may be a URL. lists: see `ImageList`, after them; column: of
    those that are tables. skip: patterns of names that are passed over in folders. without: files that are not among
    them though they lie there, such as what is being written.

    Of a folder the files count whose names end like an image's, and others that are images by their content (of a URL
    only the former); hidden ones do not. Files that are named count whatever they are. Folders are gone through in the
    order of the names' code points.
    """

    paths: Sequence[str] = ()
    lists: Sequence[str] = ()
    skip: Sequence[str] = ()
    without: Sequence[str] = ()
    column: str | None = None

    def check(self) -> None:
        """Raises FileError if a path or a list is not there, or there is nothing at all."""
        for path in self.paths:
            if is_url(path):
                check_location(path)
            elif not os.path.lexists(path):
                raise FileError(f"{path} does not exist; check the path.")
            if os.path.isdir(path) and not os.access(path, os.R_OK | os.X_OK):
                raise FileError(f"{path} cannot be read: permission denied.")
        for each in self._lists():
            each.check()
        if self.column is not None and not self.lists:
            raise FileError("--column names a column of a list; give --list FILE.csv or FILE.parquet, or leave it out.")
        if not self.paths and not self.lists:
            raise FileError("no images are named; give image files, folders, or --list FILE.")
        if not self.is_read_once and next(iter(self), None) is None:
            where = ", ".join([*self.paths, *self.lists])
            raise FileError(f"{where} holds no images; check the path.")

    @property
    def is_read_once(self) -> bool:
        """Whether some names come from what can be read only once."""
        return any(each.is_stream for each in self._lists())

    def _lists(self) -> list[ImageList]:
        return [ImageList(each, self.column) for each in self.lists]

    def peeked(self) -> Iterator[str]:
        """The names, for a look at the first of them; none if that would use them up."""
        return iter(()) if self.is_read_once else iter(self)

    def count(self) -> int | None:
        """How many files there are; None if some come from what can be read only once."""
        return None if self.is_read_once else sum(1 for _ in self)

    def __iter__(self) -> Iterator[str]:
        own = {os.path.abspath(each) for each in self.without}
        for path in self.paths:
            if is_url(path):
                yield from (
                    (joined(path, name) for name in names_below(path, SUFFIXES, self.skip))
                    if is_folder(path)
                    else (path,)
                )
            elif os.path.isdir(path):
                yield from (
                    found
                    for found in files_below(path, self.skip)
                    if os.path.abspath(found) not in own and may_be_image(found)
                )
            else:
                yield path
        for each in self._lists():
            yield from each

    def passed_over(self) -> list[str]:
        """The files in the folders that are no images by their content."""
        own = {os.path.abspath(each) for each in self.without}
        folders = [path for path in self.paths if os.path.isdir(path)]
        found = (each for folder in folders for each in files_below(folder, self.skip))
        return [each for each in found if os.path.abspath(each) not in own and not may_be_image(each)]
