"""The JSON document of a command that ends without a result: without it, the file of an earlier run would be taken for
this one's."""

from __future__ import annotations

import os
from collections.abc import Sequence

from zygal.cli.terminal import STDOUT, write_json
from zygal.errors import ZygalError
from zygal.files.outputs import JSON, Output, check_outputs
from zygal.outcome import Verdict, ended_document


def write_ended(words: Sequence[str], arguments: Sequence[str], verdict: Verdict, code: int, sentence: str) -> None:
    """Writes verdict and sentence where --json asks for a result, if the result could be written there.

    words: of the command. arguments: the whole command line, which need not be valid.
    """
    path = _json_path(arguments)
    if path is None or not words:
        return
    document = ended_document("zygal." + "-".join(words), verdict, code, sentence)
    try:
        if path != STDOUT:
            if _named_elsewhere(path, arguments):
                return
            check_outputs([Output(path, JSON)], "--overwrite" in arguments)
        write_json(path, document)
    except (ZygalError, OSError, ValueError):
        # The sentence on standard error says what is wrong; that it cannot be written as JSON too adds nothing.
        return


def _json_path(arguments: Sequence[str]) -> str | None:
    """The last value of --json."""
    found = None
    for index, each in enumerate(arguments):
        if each.startswith("--json="):
            found = each.partition("=")[2]
        elif each == "--json" and index + 1 < len(arguments):
            found = arguments[index + 1]
    return found or None


def _named_elsewhere(path: str, arguments: Sequence[str]) -> bool:
    """Whether another argument names the same file, which may then be an input."""
    others = [each for index, each in enumerate(arguments) if index == 0 or arguments[index - 1] != "--json"]
    values = [value for each in others if not each.startswith("--json=") for value in (each, each.partition("=")[2])]
    return any(os.path.realpath(value) == os.path.realpath(path) for value in values if value and "\0" not in value)
