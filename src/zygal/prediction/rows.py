"""Answers as rows of a file: CSV, JSON lines, or Parquet, by the file's ending."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

import numpy as np

from zygal.prediction.prediction import Prediction, Ranked
from zygal.errors import OutputError, as_text

CSV, JSON_LINES, PARQUET = ".csv", ".jsonl", ".parquet"
_SAME = {".ndjson": JSON_LINES}
_ROWS_A_GROUP = 2_000


def row_format(path: str | Path) -> str:
    """The format that a file's ending asks for. Raises OutputError if there is none, or what it takes is not installed."""
    ending = Path(path).suffix.lower()
    ending = _SAME.get(ending, ending)
    if ending not in (CSV, JSON_LINES, PARQUET):
        raise OutputError(f"{path} must end in .csv, .jsonl or .parquet, so that it is known what to write.")
    if ending == PARQUET:
        try:
            import pyarrow.parquet  # noqa: F401
        except ImportError as fault:
            raise OutputError(
                f'{path} needs the package pyarrow, which is not installed; install it with: pip install "zygal[parquet]", '
                "or write .csv or .jsonl."
            ) from fault
    return ending


def columns_of(most: int, multi_label: bool, beside: bool) -> dict[str, type]:
    """The columns of a row, in their order, with their types."""
    columns: dict[str, type] = {"path": str}
    if multi_label:
        columns["labels"] = str
    for place in range(1, most + 1):
        columns |= {f"class_{place}": str, f"probability_{place}": float, f"score_{place}": float}
    columns |= {"lead": float, "unsure": bool}
    if beside:
        columns |= {"beside_labels": str} if multi_label else {}
        columns |= {"beside_class": str, "beside_probability": float, "beside_score": float, "disagrees": bool}
    return columns | {"fault": str}


class RowWriter:
    """Turns answers into bytes, one row each; Parquet is made of JSON lines at the end."""

    def __init__(self, ending: str, columns: dict[str, type]):
        self.ending, self.columns = ending, columns

    def heading(self) -> bytes:
        return self._table([list(self.columns)]) if self.ending == CSV else b""

    def rows(self, answers: Sequence[Prediction]) -> bytes:
        values = [self._values(answer) for answer in answers]
        if self.ending == CSV:
            return self._table([[_cell(each) for each in row.values()] for row in values])
        return _encoded("".join(json.dumps(row, ensure_ascii=False) + "\n" for row in values))

    def _values(self, answer: Prediction) -> dict[str, Any]:
        values: dict[str, Any] = dict.fromkeys(self.columns)
        values |= {"path": as_text(answer.path), "fault": answer.fault and as_text(answer.fault)}
        if answer.fault is None:
            for place, ranked in enumerate(answer.top, 1):
                values |= _ranked("{}_" + str(place), ranked)
            values |= {"lead": _rounded(answer.lead), "unsure": answer.unsure}
            if answer.given is not None:
                values["labels"] = ";".join(answer.given)
            if answer.beside is not None:
                values |= _ranked("beside_{}", answer.beside) | {"disagrees": answer.disagrees}
                if answer.beside_given is not None:
                    values["beside_labels"] = ";".join(answer.beside_given)
        return values

    @staticmethod
    def _table(rows: list[list[str]]) -> bytes:
        text = io.StringIO()
        csv.writer(text, lineterminator="\n").writerows(rows)
        return _encoded(text.getvalue())


def to_parquet(columns: dict[str, type], rows: Path, target: Path) -> None:
    """A file of JSON lines as Parquet, group by group. Raises OSError."""
    import pyarrow
    import pyarrow.parquet

    types = {str: pyarrow.string(), float: pyarrow.float64(), bool: pyarrow.bool_()}
    schema = pyarrow.schema([(name, types[kind]) for name, kind in columns.items()])
    with target.open("wb") as file, pyarrow.parquet.ParquetWriter(file, schema) as writer:
        for group in _groups(rows):
            writer.write_table(pyarrow.Table.from_pylist(group, schema))


def _groups(rows: Path) -> Iterator[list[dict]]:
    group: list[dict] = []
    with rows.open("rb") as file:
        for line in file:
            group.append(json.loads(line))
            if len(group) == _ROWS_A_GROUP:
                yield group
                group = []
    if group:
        yield group


def _ranked(form: str, ranked: Ranked) -> dict[str, Any]:
    return {
        form.format("class"): ranked.name,
        form.format("probability"): _rounded(ranked.probability),
        # As many digits as the model's own numbers have.
        form.format("score"): float(str(np.float32(ranked.score))),
    }


def _rounded(part: float) -> float:
    """A part of one, to what a float32 can tell apart; small ones keep their digits."""
    return float(f"{part:.7g}")


def _cell(value: Any) -> str:
    if value is None:
        return ""
    if isinstance(value, bool):
        return "yes" if value else "no"
    return repr(value) if isinstance(value, float) else value


def _encoded(text: str) -> bytes:
    """Names of files that are no text in UTF-8 are spelt out."""
    return text.encode("utf-8", "backslashreplace")
