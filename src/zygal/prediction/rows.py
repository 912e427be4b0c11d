"""Predictions as rows of a file: CSV, JSON lines, or Parquet, by the file's ending."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from zygal.errors import OutputError, as_text, install_extra, without_secrets
from zygal.prediction.prediction import Prediction, RankedClass

CSV, JSON_LINES, PARQUET = ".csv", ".jsonl", ".parquet"
_SAME = {".ndjson": JSON_LINES}
_ROWS_A_GROUP = 2_000


def row_format(path: str | Path) -> str:
    """The format that a file's ending asks for. Raises OutputError if there is none, or what it takes is not
    installed."""
    ending = Path(path).suffix.lower()
    ending = _SAME.get(ending, ending)
    if ending not in (CSV, JSON_LINES, PARQUET):
        raise OutputError(f"{path} must end in .csv, .jsonl or .parquet: the ending says which format to write.")
    if ending == PARQUET:
        try:
            import pyarrow.parquet  # noqa: F401
        except ImportError as error:
            raise OutputError(
                f"{path} needs the package pyarrow, which is not installed; {install_extra('parquet')}, or "
                f"write .csv or .jsonl."
            ) from error
    return ending


def columns_of(top: int, multi_label: bool, compared: bool) -> dict[str, type]:
    """The columns of a row, in their order, with their types."""
    columns: dict[str, type] = {"path": str}
    if multi_label:
        columns["labels"] = str
    for rank in range(1, top + 1):
        columns |= {f"class_{rank}": str, f"probability_{rank}": float, f"score_{rank}": float}
    columns |= {"margin": float, "uncertain": bool}
    if compared:
        columns |= {"compared_labels": str} if multi_label else {}
        columns |= {"compared_class": str, "compared_probability": float, "compared_score": float, "disagree": bool}
    return columns | {"error": str}


@dataclass(frozen=True)
class RowWriter:
    """Turns predictions into bytes, one row each; Parquet is made from JSON lines at the end."""

    ending: str
    columns: dict[str, type]

    def heading(self) -> bytes:
        """The bytes before the first row."""
        return self._table([list(self.columns)]) if self.ending == CSV else b""

    def row(self, prediction: Prediction) -> bytes:
        """The bytes of one row."""
        values = self._values(prediction)
        if self.ending == CSV:
            return self._table([[_cell(each) for each in values.values()]])
        return _line(values)

    def _values(self, prediction: Prediction) -> dict[str, Any]:
        values: dict[str, Any] = dict.fromkeys(self.columns)
        values |= {
            "path": without_secrets(as_text(prediction.path)),
            "error": prediction.error and without_secrets(as_text(prediction.error)),
        }
        if prediction.error is None:
            for rank, ranked in enumerate(prediction.top, 1):
                values |= _ranked("{}_" + str(rank), ranked)
            values |= {"margin": _rounded(prediction.margin), "uncertain": prediction.uncertain}
            if prediction.labels is not None:
                values["labels"] = ";".join(prediction.labels)
            if prediction.other is not None:
                values |= _ranked("compared_{}", prediction.other) | {"disagree": prediction.disagree}
                if prediction.other_labels is not None:
                    values["compared_labels"] = ";".join(prediction.other_labels)
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


def from_parquet(source: Path, rows: Path) -> None:
    """The JSON lines that a file of `to_parquet` was made of, byte for byte. Raises OSError."""
    import pyarrow.parquet

    with pyarrow.parquet.ParquetFile(source) as file, rows.open("wb") as target:
        for batch in file.iter_batches(_ROWS_A_GROUP):
            target.write(b"".join(_line(values) for values in batch.to_pylist()))


def _line(values: dict[str, Any]) -> bytes:
    return _encoded(json.dumps(values, ensure_ascii=False) + "\n")


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


def _ranked(form: str, ranked: RankedClass) -> dict[str, Any]:
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
