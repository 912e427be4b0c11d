"""Arrays that a framework left behind, as .npy or CSV files, and the names of the images beside them."""

from __future__ import annotations

import csv
from pathlib import Path

import numpy as np

from zygal.errors import WitnessError
from zygal.files import existing_file, read_text

_LARGEST_TABLE_BYTES = 1_000_000_000


def read_array(path: str | Path) -> tuple[np.ndarray, list[str] | None]:
    """Numbers of a .npy or CSV file, and names if the CSV's first column is no number.

    A first line of a CSV that is no numbers is a heading. Nothing is unpickled. Raises FileError or WitnessError.
    """
    path = existing_file(path)
    if path.suffix.lower() == ".npy":
        try:
            # Mapped, not read: the file cannot claim more than it holds.
            array = np.load(path, mmap_mode="r", allow_pickle=False)
        except (ValueError, OSError, EOFError, SyntaxError, TypeError) as fault:
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
    rows = [row for row in csv.reader(text.splitlines(), dialect) if any(cell.strip() for cell in row)]
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
