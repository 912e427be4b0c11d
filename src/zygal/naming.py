"""Names that are made up for the user: classes without a label, and the command to run next."""

from __future__ import annotations

import shlex
from collections.abc import Sequence
from pathlib import Path


def class_name(index: int, labels: Sequence[str] | None) -> str:
    """The label of a class, or its number."""
    return labels[index] if labels and index < len(labels) else f"class {index}"


def command_line(*words: str) -> str:
    """A command that can be pasted into a shell."""
    return " ".join(shlex.quote(str(word)) for word in words)


def match_command(artifact: str, witness: str, images: str, *options: str) -> str:
    """The command that checks an artifact and its inlet against a recording."""
    return command_line("zygal", "match", artifact, "--witness", witness, "--images", images, *options)


def recover_command(witness: str, images: str, output: str, *options: str) -> str:
    """The command that recovers the inlet of a recording."""
    return command_line("zygal", "inlet", "recover", "--witness", witness, "--images", images, *options, "-o", output)


def found_in_folder(path: str, pattern: str, otherwise: str) -> str:
    """The file of a pattern, such as "*.witness", in the folder of another file: the one of the same name, else the
    only one; or else a word that stands for it."""
    stem = sibling(path, "")
    same = Path(stem + pattern.removeprefix("*"))
    found = [same] if same.is_file() else sorted(Path(stem).parent.glob(pattern))
    return str(found[0]) if len(found) == 1 else otherwise


def sibling(path: str, ending: str) -> str:
    """A file beside another one, with its name up to the first dot (and what symbol files add) and another ending."""
    file = Path(str(path).rpartition(":")[0] if ".py:" in str(path) else path)
    return str(file.with_name(file.name.partition(".")[0].removesuffix("-symbol") + ending))
