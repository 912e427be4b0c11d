"""Labelled images: class sub-folders or a CSV, joined to the classifier's classes by name and never by position."""

from __future__ import annotations

import os
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from difflib import get_close_matches
from pathlib import Path

from zygal.classifier.labels import Labels
from zygal.errors import FileError, LabelsError, some_of
from zygal.files.locations import folder_of, is_url, joined
from zygal.files.tables import PATH_WORDS, headed, is_number, table_rows
from zygal.inlet.images import images_below

LABEL_WORDS = ("label", "labels", "class", "target", "truth", "class_name", "category")
GROUP_WORDS = ("group", "groups")
SEVERAL = ";"
"""Stands between the labels of an image that has several."""
_MOST_BYTES = 1_000_000_000


@dataclass(frozen=True)
class LabelledImage:
    """names: its labels as they are written; one, unless an image may have several, or none."""

    path: str
    names: tuple[str, ...]
    group: str | None = None


@dataclass(frozen=True)
class Joined:
    """images, with truth: the numbers of their classes, for each. unknown: names that are no class of the classifier's,
    with the number of their images, which are left out. respelt: names that were joined though they are spelt
    otherwise. missing: classes without an image."""

    images: tuple[LabelledImage, ...]
    truth: tuple[tuple[int, ...], ...]
    unknown: Mapping[str, int]
    respelt: Mapping[str, str]
    missing: tuple[str, ...]
    advice: Mapping[str, str]


def read_labelled(where: str | Path, several: bool = False) -> list[LabelledImage]:
    """The images of a folder with a sub-folder a class, or of a table, CSV or Parquet (path, label, perhaps group);
    `several` labels in a cell stand between semicolons. Folder, table and paths may be URLs. Raises FileError or
    LabelsError."""
    where = str(where)
    if is_url(where) and where.partition("::")[0].lower().endswith((".csv", ".parquet")):
        return _from_table(where, several)
    if is_url(where) or os.path.isdir(where) or not os.path.exists(where):
        return _from_folders(where)
    return _from_table(where, several)


def _from_folders(folder: str) -> list[LabelledImage]:
    found, loose = [], 0
    for name in images_below(folder):
        label, stroke, _ = name.partition("/")
        if stroke and not label.startswith("."):
            found.append(LabelledImage(joined(folder, name), (label,)))
        else:
            loose += 1
    if not found:
        raise FileError(
            f"{folder} holds {loose} images but no sub-folders of classes; put them into one for each class, or give a "
            "CSV of path and label."
        )
    return found


def _from_table(path: str, several: bool) -> list[LabelledImage]:
    rows = table_rows(path, _MOST_BYTES, LabelsError, "each image: path, label and perhaps group")
    head = rows[0]
    if len(head) < 2:
        raise LabelsError(f"{path} has one column; a CSV of labelled images has path, label and perhaps group.")
    columns = [headed(head, words) for words in (PATH_WORDS, LABEL_WORDS, GROUP_WORDS)]
    if columns[0] and columns[1]:
        rows = rows[1:]
        indices = [each[0] if each else None for each in columns]
    else:
        # Without such a heading the columns are known by their order.
        # A heading names no file, and no label that comes again.
        if not os.path.exists(joined(folder_of(path), head[0])) and head[1] not in {row[1] for row in rows[1:]}:
            rows = rows[1:]
        indices = [0, 1, 2 if len(head) > 2 else None]
    if not rows:
        raise LabelsError(f"{path} has a heading and no rows; give a row for each image.")
    return [_labelled(path, row, indices, several) for row in rows]


def _labelled(table: str, row: Sequence[str], indices: Sequence[int | None], several: bool) -> LabelledImage:
    path, label, group = (None if index is None else row[index] for index in indices)
    names = tuple(part.strip() for part in label.split(SEVERAL) if part.strip()) if several else (label,)
    if not several and not label:
        raise LabelsError(f"{table} gives no label for {path}; label every image or take it out.")
    return LabelledImage(joined(folder_of(table), path), names, group)


def numbers_named(images: Sequence[LabelledImage], names: Labels, where: str | Path) -> list[LabelledImage]:
    """Labels that are numbers, replaced by what they stand for. Raises LabelsError if they do not number those
    names."""
    used = {name for image in images for name in image.names}
    words = [name for name in used if not is_number(name)]
    if words:
        raise LabelsError(
            f"{where} has labels that are not numbers ({some_of(sorted(words))}); --numbers needs numeric labels."
        )
    low, high, count = min(map(int, used)), max(map(int, used)), len(names.names)
    if high >= count:
        off = f"; they run from {low} to {high}, so they are off by one" if (low, high) == (1, count) else ""
        raise LabelsError(
            f"{where} has the label {high}, but the {count} names ({names.order}) are numbered from 0 to "
            f"{count - 1}{off}; number both in the same way."
        )
    return [
        LabelledImage(image.path, tuple(names.names[int(name)] for name in image.names), image.group)
        for image in images
    ]


def join(images: Sequence[LabelledImage], classes: Sequence[str], where: str | Path) -> Joined:
    """Labels joined to classes by their names. Raises LabelsError if no name is a class's."""
    used = Counter(name for image in images for name in image.names)
    indices = {name: index for index, name in enumerate(classes)}
    spellings: dict[str, list[str]] = {}
    for name in classes:
        spellings.setdefault(_plain(name), []).append(name)
    respelt = {
        name: spellings[_plain(name)][0]
        for name in used
        if name not in indices and len(spellings.get(_plain(name), ())) == 1
    }
    unknown = {name: used[name] for name in sorted(used) if name not in indices and name not in respelt}
    if used and len(unknown) == len(used):
        raise _nothing_in_common(list(unknown), classes, where)
    numbers = indices | {name: indices[name_of] for name, name_of in respelt.items()}
    kept = [image for image in images if not any(name in unknown for name in image.names)]
    truth = tuple(tuple(sorted({numbers[name] for name in image.names})) for image in kept)
    present = {number for each in truth for number in each}
    return Joined(
        images=tuple(kept),
        truth=truth,
        unknown=unknown,
        respelt=respelt,
        missing=tuple(name for index, name in enumerate(classes) if index not in present),
        advice={name: close[0] for name in unknown if (close := get_close_matches(name, classes, 1, 0.7))},
    )


def _nothing_in_common(unknown: list[str], classes: Sequence[str], where: str | Path) -> LabelsError:
    if all(is_number(name) for name in unknown):
        low, high = min(map(int, unknown)), max(map(int, unknown))
        run = f"they run from {low} to {high}"
        if low == 1 and high == len(classes):
            run += f", and the classifier's {len(classes)} classes from 0 to {high - 1}: they seem to be off by one"
        return LabelsError(
            f"{where} labels images by numbers ({run}), but the classifier's classes have names "
            f"({some_of(list(classes))}); say what the numbers mean with --numbers FILE."
        )
    return LabelsError(
        f"{where} has no label that is a class of the artifact: {some_of(unknown)} there, {some_of(list(classes))} "
        "here; use the labels that this model was trained with."
    )


def _plain(name: str) -> str:
    """A name without what spellings differ in."""
    return "".join(letter for letter in name.casefold() if letter.isalnum())
