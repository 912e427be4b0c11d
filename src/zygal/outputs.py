"""One rule about existing output files, for every command.

An output replaces a file of its own kind (an artifact an artifact, a picture a picture) and an empty file. Any other
existing file is kept and the command is refused before it does any work, unless overwriting is asked for: so a typing
error cannot destroy a trained model or a table of labels.
"""

from __future__ import annotations

import os
from collections.abc import Iterable
from dataclasses import dataclass

from zygal import kinds
from zygal.errors import FileError, OutputError
from zygal.files import check_writable, make_folder, open_file

JSON, PICTURE, TABLE = "a JSON result of Zygal", "a PNG picture", "a CSV table"
_HEAD_BYTES = 4096


@dataclass(frozen=True)
class Output:
    """A file that a command will write. kind: of `kinds`, or a constant of this module. makes_folder: its folder is created."""

    path: str
    kind: str
    makes_folder: bool = False


def check_outputs(outputs: Iterable[Output], overwrite: bool) -> None:
    """Raises OutputError if an output cannot be written, would replace another kind of file, or is named twice."""
    seen: dict[str, str] = {}
    for output in outputs:
        if output.makes_folder:
            make_folder(os.path.dirname(output.path) or ".")
        check_writable(output.path)
        real = os.path.realpath(output.path)
        if os.path.isfile(real) or not os.path.exists(real):
            if real in seen:
                raise OutputError(f"{output.path} is named as two outputs of one command; give each its own file.")
            seen[real] = output.path
        if not overwrite and not _may_replace(output):
            raise OutputError(
                f"{output.path} exists and is not {output.kind}; give another name, or add --overwrite to replace it."
            )


def _may_replace(output: Output) -> bool:
    if not os.path.isfile(output.path):
        # A pipe or a device is written to, not replaced.
        return True
    try:
        with open_file(output.path) as file:
            head = file.read(_HEAD_BYTES)
    except FileError:
        return False
    if not head:
        return True
    if output.kind == JSON:
        return head.lstrip().startswith(b"{") and b'"kind": "zygal' in head
    if output.kind == PICTURE:
        return head.startswith(b"\x89PNG\r\n\x1a\n")
    if output.kind == TABLE:
        return output.path.lower().endswith((".csv", ".tsv")) and b"\0" not in head
    return kinds.kind_of(output.path) == output.kind
