"""What the images of a run were when they were read: beside the rows, a line each, so that a replaced image is
noticed."""

from __future__ import annotations

import hashlib
import os
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from zygal.errors import FileError, OutputError
from zygal.files.locations import Content, StorageOutage, fetch, is_url, version_of
from zygal.files.opening import sha256_of


@dataclass(frozen=True)
class ImageState:
    """size_bytes, modified_ns: of the file, -1 if there is none; of a URL what its storage tells, and a number that
    stands for the object's version. sha256: of its bytes, if they are hashed."""

    size_bytes: int
    modified_ns: int
    sha256: str | None = None

    @property
    def is_missing(self) -> bool:
        """Whether there was no file."""
        return self.size_bytes == self.modified_ns == -1

    def same_as(self, now: ImageState) -> bool:
        """Whether the image is still the one that it was: by its hash where both have one, else by size and time."""
        if now.sha256 is not None:
            return self.sha256 == now.sha256
        return (self.size_bytes, self.modified_ns) == (now.size_bytes, now.modified_ns)


def state_of(path: str, hashed: bool = False, content: Content | None = None) -> ImageState:
    """What a file or a URL is now. content: if it was read already. Raises StorageOutage."""
    if is_url(path):
        return _state_of_url(path, hashed, content)
    try:
        found = os.stat(path)
    except (OSError, ValueError):
        return ImageState(-1, -1, "" if hashed else None)
    digest = None
    if hashed:
        try:
            digest = sha256_of(path)
        except FileError:
            digest = ""
    return ImageState(found.st_size, found.st_mtime_ns, digest)


def _state_of_url(url: str, hashed: bool, content: Content | None) -> ImageState:
    if content is None and not hashed:
        return ImageState(*version_of(url))
    try:
        content = content or fetch(url)
    except StorageOutage:
        raise
    except FileError:
        return ImageState(*version_of(url), "" if hashed else None)
    return ImageState(content.size_bytes, content.version, hashlib.sha256(content.data).hexdigest() if hashed else None)


@dataclass(frozen=True)
class RowState:
    """One row. row_bytes: how long it is. counted: by which counts it is counted."""

    image: ImageState
    row_bytes: int
    counted: tuple[str, ...]

    def line(self) -> bytes:
        """The state as a line of the file of states."""
        digest = "-" if self.image.sha256 is None else self.image.sha256 or "none"
        counted = ",".join(self.counted)
        return f"{self.image.size_bytes} {self.image.modified_ns} {digest} {self.row_bytes} {counted}\n".encode()

    @property
    def counts(self) -> Counter:
        """What is counted of the row."""
        return Counter(self.counted)


def read_states(path: Path, rows: int) -> Iterator[RowState]:
    """The states of the first rows. Raises OutputError if there are fewer or one is damaged."""
    try:
        with path.open("rb") as file:
            for _ in range(rows):
                yield _parsed(file.readline(1000), path)
    except OSError as fault:
        raise OutputError(
            f"{path}, which says what the images were, cannot be read; start again with --overwrite."
        ) from fault


def _parsed(line: bytes, path: Path) -> RowState:
    try:
        size, modified, digest, row_bytes, counted = line.decode("ascii").rstrip("\n").split(" ")
        image = ImageState(int(size), int(modified), None if digest == "-" else "" if digest == "none" else digest)
        return RowState(image, int(row_bytes), tuple(counted.split(",")))
    except ValueError as fault:
        raise OutputError(f"{path} is damaged; start again with --overwrite.") from fault
