"""A recording made of arrays: of those at hand, or of what a framework left behind as .npy or CSV files."""

from __future__ import annotations

import contextlib
import csv
import os
from collections import Counter
from collections.abc import Sequence
from pathlib import Path

import numpy as np

from zygal.errors import WitnessError, some_of
from zygal.files.opening import existing_file, read_text
from zygal.inlet.images import ImageFile, hash_image

_LARGEST_TABLE_BYTES = 1_000_000_000


def checked_arrays(
    scores: np.ndarray, names: Sequence[str], images: str | Path, tensors: np.ndarray | None
) -> tuple[tuple[ImageFile, ...], np.ndarray, np.ndarray | None]:
    """The image files, the scores and the tensors of `Witness.from_arrays`, as a witness holds them. Raises
    WitnessError."""
    scores = np.asarray(scores)
    if scores.ndim != 2 or scores.dtype.kind not in "fiu" or not scores.size:
        raise WitnessError(f"scores must be numbers [images, classes], not {scores.dtype} {list(scores.shape)}.")
    kept = tuple(hash_image(images, _below(images, name)) for name in names)
    for what, array in (("scores", scores), ("tensors", tensors)):
        if array is not None and len(array) != len(kept):
            raise WitnessError(f"there are {len(kept)} names, but {what} of {len(array)} images; give one row a name.")
    if len({each.name for each in kept}) != len(kept):
        twice = [name for name, times in Counter(each.name for each in kept).items() if times > 1]
        raise WitnessError(f"the names contain {some_of(twice)} twice; give one row per image.")
    check_finite(scores, [each.name for each in kept], "the scores given")
    if tensors is not None:
        tensors = np.asarray(tensors)
        if tensors.dtype.kind not in "fiu":
            raise WitnessError(f"tensors must be numbers [images, ...], not {tensors.dtype}.")
        tensors = np.ascontiguousarray(tensors, np.uint8 if tensors.dtype == np.uint8 else np.float32)
    return kept, np.ascontiguousarray(scores, np.float32), tensors


def _below(folder: str | Path, name: str) -> str:
    """A file's path below the folder, with forward slashes. Raises WitnessError if it is not there."""
    path = Path(name)
    with contextlib.suppress(ValueError):
        path = path.resolve().relative_to(Path(folder).resolve()) if os.path.isfile(path) else path
    if path.is_absolute() or ".." in path.parts or not os.path.isfile(Path(folder) / path):
        raise WitnessError(
            f"{name} is not an image in {folder}; give names below that folder, in the order of the rows."
        )
    return path.as_posix()


def read_array(path: str | Path) -> tuple[np.ndarray, list[str] | None]:
    """Numbers of a .npy or CSV file, and names if the CSV's first column is no number.

    A first line of a CSV that is no numbers is a heading. Nothing is unpickled. Raises FileError or WitnessError.
    """
    path = existing_file(path)
    if path.suffix.lower() == ".npy":
        try:
            # Mapped, not read: the file cannot claim more than it holds.
            array = np.load(path, mmap_mode="r", allow_pickle=False)
        except (
            Exception
        ) as fault:  # Its header is a text in Python's own syntax, and whatever reads that raises comes through.
            raise WitnessError(f"{path} is not an array that can be read ({fault}).") from fault
        if not isinstance(array, np.ndarray) or array.dtype.kind not in "fiu":
            raise WitnessError(f"{path} does not hold an array of numbers.")
        return array, None
    if path.suffix.lower() not in (".csv", ".tsv", ".txt"):
        raise WitnessError(f"{path} is neither .npy nor .csv; save the array as one of them.")
    return _read_table(path)


def _read_table(path: Path) -> tuple[np.ndarray, list[str] | None]:
    text = read_text(path, "a table of numbers", _LARGEST_TABLE_BYTES)
    try:
        dialect = csv.Sniffer().sniff(text[:4096], ",;\t ")
    except csv.Error:
        dialect = csv.excel
    try:
        rows = [row for row in csv.reader(text.splitlines(), dialect) if any(cell.strip() for cell in row)]
    except csv.Error as fault:
        raise WitnessError(f"{path} is not a table ({fault}).") from fault
    if rows and not _is_number(rows[0][-1]):
        rows = rows[1:]
    if not rows:
        raise WitnessError(f"{path} holds no numbers.")
    named = not _is_number(rows[0][0])
    try:
        numbers = np.array([[float(cell) for cell in row[named:]] for row in rows])
    except ValueError as fault:
        raise WitnessError(f"{path} is not a table of numbers with rows of one length ({fault}).") from fault
    return numbers, [row[0].strip() for row in rows] if named else None


def read_names(path: str | Path) -> list[str]:
    """One name a line. Raises FileError."""
    return [line.strip() for line in read_text(path, "a list of image names").splitlines() if line.strip()]


def _is_number(cell: str) -> bool:
    try:
        float(cell)
    except ValueError:
        return False
    return True


def check_finite(scores: np.ndarray, names: list[str], where: str) -> None:
    """Raises WitnessError naming the images whose scores are not numbers."""
    bad = [name for name, row in zip(names, scores) if not np.isfinite(row).all()]
    if bad:
        raise WitnessError(
            f"{where}: the scores of {some_of(bad)} contain NaN or infinity; check the model and its input."
        )
