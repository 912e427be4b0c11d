"""Class names, in the order of the model's outputs, from where people have them."""

from __future__ import annotations

import os
import re
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from zygal.errors import FileError, LabelsError, some_of
from zygal.files import kinds
from zygal.files.documents import parse_json
from zygal.files.opening import read_text
from zygal.files.tables import headed, is_number, read_table

NAME_WORDS = ("name", "label", "class_name", "classname", "class", "title", "category")
INDEX_WORDS = ("index", "idx", "id", "class_idx", "class_id", "class_index", "label_id", "number", "output")

_NUMBERED = re.compile(r"(\d{1,15})(?:\s*[:,;=]\s*|\s+)(\S.*)")


@dataclass(frozen=True)
class Labels:
    """names: in the order of the model's outputs. order: where that order comes from, in words. notes: what to look
    at."""

    names: tuple[str, ...]
    order: str
    notes: tuple[str, ...] = ()


def read_labels(path: str | Path) -> Labels:
    """The labels of a file or of a training folder.

    A file is text with one per line (numbered or not), JSON (a list, index to name, name to index, or a
    model folder's config.json that has one of them), or CSV with a
    column of names and perhaps one of indices. A training folder has one sub-folder per class. Raises FileError or
    LabelsError.
    """
    from zygal.files.recognition import kind_of

    path = Path(path)
    if os.path.isdir(path):
        return _from_folder(path)
    text = read_text(path, "a labels file")
    if kind_of(path) == kinds.LAYERS_JSON:
        raise LabelsError(f"{path} is {kinds.LAYERS_JSON}, not a labels file; give a list of class names.")
    if text.lstrip()[:1] in ("[", "{"):
        names, order = _from_json(parse_json(text, f"{path}, which begins like JSON,", LabelsError, (list, dict)), path)
    elif path.suffix.lower() in (".csv", ".tsv"):
        names, order = _from_table(text, path)
    else:
        names, order = _from_lines(text, path)
    if not names:
        raise LabelsError(f"{path} holds no label; give one label per line, in the order of the model's outputs.")
    _check_distinct(names, path)
    return Labels(tuple(names), f"{order} {path.name}")


def check_label_count(labels: Sequence[str], outputs: int, where: str) -> None:
    """Raises LabelsError unless there is one label for each output, or two for the one output of a yes-or-no model."""
    if len(labels) == outputs or (outputs == 1 and len(labels) == 2):
        return
    less = "fewer" if len(labels) < outputs else "more"
    count = f"{len(labels)} label{'s' * (len(labels) != 1)}"
    raise LabelsError(
        f"{where} has {count}, {less} than the model's {outputs} output{'s' * (outputs != 1)}; "
        "give one label for each output, in their order."
    )


def _from_folder(folder: Path) -> Labels:
    """The sub-folders' names in the order of their code points, in which training frameworks number them."""
    try:
        names = sorted(entry.name for entry in folder.iterdir() if entry.is_dir())
    except OSError as fault:
        raise FileError(f"{folder} cannot be read: {(fault.strerror or str(fault)).lower()}.") from fault
    hidden = [name for name in names if name.startswith(".")]
    names = [name for name in names if not name.startswith(".")]
    if not names:
        raise LabelsError(f"{folder} has no sub-folders; a training folder has one for each class.")
    notes = []
    if hidden:
        notes.append(
            f"the hidden folder {some_of(hidden)} in {folder} is left out; some training code counts it as a class"
        )
    if all(name.isascii() and name.isdigit() for name in names) and names != sorted(names, key=int):
        notes.append(
            f"the sub-folders of {folder} are numbers and are sorted as text, as frameworks do: "
            f"{', '.join(names[:3])}, so output 1 is {names[1]}"
        )
    empty = [name for name in names if not any((folder / name).iterdir())]
    if empty:
        notes.append(f"empty sub-folders of {folder} count as classes: {some_of(empty)}")
    return Labels(tuple(names), f"sub-folders, sorted as text, of {folder.resolve().name}", tuple(notes))


def _from_lines(text: str, path: Path) -> tuple[list[str], str]:
    lines = [line.strip() for line in text.splitlines()]
    while lines and not lines[-1]:
        lines.pop()
    if "" in lines:
        raise LabelsError(f"{path} has an empty line {lines.index('') + 1}; each line is the label of one class.")
    numbered = [_NUMBERED.fullmatch(line) for line in lines]
    if all(numbered):
        indices = [int(found[1]) for found in numbered]
        # From 1 on they may belong to the names, as in "1 euro", "2 euro".
        if sorted(indices) == list(range(len(lines))):
            return _in_order(dict(zip(indices, (found[2] for found in numbered))), len(lines), path), "indices in"
    return lines, "lines of"


_IN_CONFIGURATIONS = ("id2label", "label2id", "label_names")
"""The keys under which a model folder's config.json keeps class names: index to name, name to index, a list."""


def _from_configuration(document: dict, path: Path) -> tuple[list[str], str]:
    """The names in a model's configuration; where it has them in two forms, both must agree."""
    found = {
        key: _from_json(document[key], path)[0] for key in _IN_CONFIGURATIONS if document.get(key) not in (None, {}, [])
    }
    if len({tuple(names) for names in found.values()}) > 1:
        raise LabelsError(f"{path} has different class names under {' and '.join(found)}; correct one of them.")
    key, names = next(iter(found.items()))
    return names, f"{key} of"


def _from_json(document: Any, path: Path) -> tuple[list[str], str]:
    if isinstance(document, dict) and any(document.get(key) for key in _IN_CONFIGURATIONS):
        return _from_configuration(document, path)
    if isinstance(document, list) and all(isinstance(label, str) for label in document):
        return document, "list in"
    if isinstance(document, dict) and document:
        values = list(document.values())
        if all(type(index) is int for index in values):
            by_index = {index: name for name, index in document.items()}
            return _in_order(by_index, len(values), path), "indices in"
        if all(isinstance(name, str) for name in values) and all(is_number(key) for key in document):
            return _in_order({int(index): name for index, name in document.items()}, len(values), path), "indices in"
    raise LabelsError(f"{path} must hold a JSON list of names, or an object of index to name or of name to index.")


def _from_table(text: str, path: Path) -> tuple[list[str], str]:
    """The column of names, in the order of the column of indices if there is one, else of the rows."""
    rows = read_table(text, path, LabelsError, "each class")
    head, body = rows[0], rows[1:]
    named, numbered = headed(head, NAME_WORDS), headed(head, INDEX_WORDS)
    if not named and not numbered:
        # No heading that says anything: a heading of numbers, or names that begin at once.
        body = rows if not _looks_like_heading(rows) else body
    columns = [[row[position] for row in body] for position in range(len(head))]
    indices = [position for position, column in enumerate(columns) if _counts_up(column)]
    # Where several columns count, the one that begins at 0 numbers the outputs.
    indices = [position for position in numbered if position in indices] or sorted(
        indices, key=lambda position: "0" not in columns[position]
    )
    names = [position for position in named if position not in indices[:1]] or [
        position for position, column in enumerate(columns) if not all(is_number(cell) for cell in column)
    ]
    if len(names) > 1 and not any(position in named for position in names):
        names = [position for position in names if len(set(columns[position])) == len(body)]
        if len(names) > 1:
            raise LabelsError(
                f"{path} has {len(names)} columns that could be the names "
                f"({some_of([head[position] for position in names])}); "
                'head the right one "name".'
            )
    if not names:
        raise LabelsError(
            f'{path} has no column of names; head one "name", and one "index" if the rows are not in order.'
        )
    if numbered and not indices:
        raise LabelsError(
            f"{path} has a column {head[numbered[0]]!r}, but it does not count the {len(body)} classes from 0; "
            "number them from 0 without gaps."
        )
    wanted = columns[names[0]]
    if not indices:
        return wanted, "rows of"
    by_index = dict(zip((int(cell) for cell in columns[indices[0]]), wanted))
    order = "indices in" if body is rows else f"column {head[indices[0]]!r} of"
    return _in_order(by_index, len(body), path), order


def _looks_like_heading(rows: list[list[str]]) -> bool:
    """Whether the first row is text above a column of numbers."""
    return len(rows) > 1 and any(
        not is_number(rows[0][position]) and all(is_number(row[position]) for row in rows[1:])
        for position in range(len(rows[0]))
    )


def _counts_up(column: list[str]) -> bool:
    """Whether the cells are the numbers from 0, or from 1, in any order."""
    if not column or not all(is_number(cell) for cell in column):
        return False
    numbers = sorted(map(int, column))
    return numbers in (list(range(len(numbers))), list(range(1, len(numbers) + 1)))


def _in_order(by_index: dict[int, str], count: int, path: Path) -> list[str]:
    missing = [index for index in range(count) if index not in by_index]
    if missing == [0] and count in by_index:
        raise LabelsError(
            f"{path} numbers its labels from 1 to {count}, but outputs are numbered from 0; if the first output is "
            f"{by_index[1]!r} number them from 0, and if it is a class of its own add it as 0."
        )
    if missing:
        raise LabelsError(
            f"{path} gives {count} labels whose indices are not 0 to {count - 1}: {missing[0]} is missing; "
            "number them from 0 without gaps."
        )
    return [by_index[index] for index in range(count)]


def _check_distinct(labels: list[str], path: str | Path) -> None:
    seen: dict[str, int] = {}
    for index, label in enumerate(labels):
        if not label:
            raise LabelsError(f"{path} has no name for output {index}; name every class.")
        if label in seen:
            raise LabelsError(f"{path} has the label {label!r} twice, for the outputs {seen[label]} and {index}.")
        seen[label] = index
