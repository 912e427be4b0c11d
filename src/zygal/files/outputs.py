"""One rule about existing output files, for every command.

An output replaces a file of its own kind (an artifact an artifact, a picture of Zygal such a picture) and an empty
file. Any other existing file, and every input of the same command, is kept and the command is refused before it does
any work, unless overwriting is asked for: so a typing error cannot destroy a trained model, a photograph or a table of
labels.
"""

from __future__ import annotations

import os
from collections.abc import Iterable
from dataclasses import dataclass

from zygal.errors import FileError, OutputError
from zygal.files.opening import open_file
from zygal.files.writing import check_writable, make_folder

JSON, PICTURE, TABLE = "a JSON result of Zygal", "a PNG picture that Zygal drew", "a CSV table of zygal bench"
PAGE, JUNIT, BUNDLE = "a page of zygal signoff", "a JUnit file of zygal signoff", "a bundle of zygal pack"
DRAWING = "a drawing of Zygal (PNG or SVG)"
WEIGHTS = "the weights of an artifact"
VECTOR_FILE = "a file of vectors (.parquet or .npy)"
_HEAD_BYTES = 4096


@dataclass(frozen=True)
class Output:
    """A file that a command will write. kind: of `kinds`, or a constant of this module. makes_folder: its folder is
    created."""

    path: str
    kind: str
    makes_folder: bool = False


def check_outputs(outputs: Iterable[Output], overwrite: bool, read: Iterable[str] = ()) -> None:
    """Raises OutputError if an output cannot be written, would replace another kind of file or one of those that are
    read, or is named twice."""
    seen: dict[str, str] = {}
    inputs = set() if overwrite else _real_files(read)
    for output in outputs:
        if output.makes_folder:
            make_folder(os.path.dirname(output.path) or ".")
        check_writable(output.path)
        real = os.path.realpath(output.path)
        if os.path.isfile(real) or not os.path.exists(real):
            if real in seen:
                raise OutputError(f"{output.path} is named as two outputs of one command; give each its own file.")
            seen[real] = output.path
        if real in inputs:
            raise OutputError(
                f"{output.path} is an input of this command; give another name, or add --overwrite to replace it."
            )
        if not overwrite and not _may_replace(output):
            raise OutputError(
                f"{output.path} exists and is not {output.kind}; give another name, or add --overwrite to replace it."
            )


def _real_files(names: Iterable[str]) -> set[str]:
    """The real paths of those names that are files."""
    found = set()
    for each in names:
        # FILE.py:FUNCTION is an input too.
        path = each.rpartition(":")[0] if ".py:" in each else each
        if os.path.isfile(path):
            found.add(os.path.realpath(path))
    return found


def _may_replace(output: Output) -> bool:
    if not os.path.isfile(output.path):
        # A pipe or a device is written to, not replaced.
        return True
    if output.kind == WEIGHTS:
        # Nothing in it says what it is; it goes with the artifact whose name it has.
        return os.path.isfile(output.path.removesuffix(".weights"))
    try:
        with open_file(output.path) as file:
            head = file.read(_HEAD_BYTES)
    except FileError:
        return False
    if not head:
        return True
    if output.kind == JSON:
        return head.lstrip().startswith(b"{") and b'"kind": "zygal' in head
    if output.kind == DRAWING and output.path.lower().endswith(".svg"):
        return b"<svg" in head and b"Zygal" in head
    if output.kind in (PICTURE, DRAWING):
        return head.startswith(b"\x89PNG\r\n\x1a\n") and b"Software\0Zygal" in head
    if output.kind == PAGE:
        return b'name="generator" content="Zygal' in head
    if output.kind == JUNIT:
        return b'<testsuites name="zygal signoff' in head
    if output.kind == BUNDLE:
        return head.startswith(b"PK\x03\x04") and head[30:].startswith(b"MANIFEST.json")
    if output.kind == TABLE:
        return head.startswith(b"batch_images,")
    if output.kind == VECTOR_FILE:
        return head.startswith(b"\x93NUMPY" if output.path.lower().endswith(".npy") else b"PAR1")
    from zygal.files.recognition import kind_of

    return kind_of(output.path) == output.kind
