"""Class names, in the order of the model's outputs."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from zygal.errors import LabelsError
from zygal.files import read_text


def read_labels(path: str | Path) -> list[str]:
    """The labels of a file: text with one a line, or JSON (a list, index to name, or name to index).

    Raises FileError or LabelsError.
    """
    text = read_text(path, "a labels file")
    if text.lstrip()[:1] in ("[", "{"):
        try:
            labels = _from_json(json.loads(text), path)
        except (ValueError, RecursionError) as fault:
            raise LabelsError(f"{path} begins like JSON but is not valid JSON ({fault}).") from fault
    else:
        labels = [line.strip() for line in text.splitlines()]
        while labels and not labels[-1]:
            labels.pop()
        if "" in labels:
            raise LabelsError(f"{path} has an empty line {labels.index('') + 1}; each line is the label of one class.")
    if not labels:
        raise LabelsError(f"{path} holds no label; write one a line, in the order of the model's outputs.")
    _check_distinct(labels, path)
    return labels


def check_label_count(labels: list[str], outputs: int, where: str) -> None:
    """Raises LabelsError unless there is one label for each output of the model."""
    if len(labels) != outputs:
        less = "fewer" if len(labels) < outputs else "more"
        raise LabelsError(
            f"{where} has {len(labels)} labels, {less} than the model's {outputs} outputs; "
            "give one label for each output, in their order."
        )


def _from_json(document: Any, path: str | Path) -> list[str]:
    if isinstance(document, list) and all(isinstance(label, str) for label in document):
        return document
    if isinstance(document, dict) and document:
        values = list(document.values())
        if all(type(index) is int for index in values):
            return _in_order({index: name for name, index in document.items()}, len(values), path)
        if all(isinstance(name, str) for name in values) and all(key.isascii() and key.isdigit() for key in document):
            return _in_order({int(index): name for index, name in document.items()}, len(values), path)
    raise LabelsError(f"{path} must hold a JSON list of names, or an object of index to name or of name to index.")


def _in_order(by_index: dict[int, str], count: int, path: str | Path) -> list[str]:
    missing = [index for index in range(count) if index not in by_index]
    if missing:
        raise LabelsError(
            f"{path} gives {count} labels whose indices are not 0 to {count - 1}: {missing[0]} is missing; "
            "number them from 0 without gaps."
        )
    return [by_index[index] for index in range(count)]


def _check_distinct(labels: list[str], path: str | Path) -> None:
    seen: dict[str, int] = {}
    for index, label in enumerate(labels):
        if label in seen:
            raise LabelsError(f"{path} has the label {label!r} twice, for the outputs {seen[label]} and {index}.")
        seen[label] = index
