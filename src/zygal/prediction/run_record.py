"""The record beside a file of rows: what the run depends on, how many rows are safe, and the names of its files."""

from __future__ import annotations

import hashlib
import json
import os
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Any

from zygal.documents import Misfit, mapping, parse_json, rebuilt, record, truth, whole
from zygal.errors import OutputError, shown
from zygal.files import read_bytes

VERSION = 1
_LARGEST_BYTES = 64_000_000


@dataclass(frozen=True)
class RunRecord:
    """What FILE.run.json holds. made_by: what the rows depend on, by names that a message can use. counts: of whatever the
    run counts. names_sha256: of the files' names, one per line, in the order of the rows."""

    made_by: dict[str, Any]
    finished: bool = False
    rows: int = 0
    bytes: int = 0
    counts: dict[str, int] = field(default_factory=dict)
    names_sha256: str = hashlib.sha256().hexdigest()


def _hash(value: Any) -> str:
    if not isinstance(value, str) or len(value) != 64 or set(value) - set("0123456789abcdef"):
        raise Misfit("a SHA-256", value)
    return value


_RULE = record({
    "zygal_run": whole(VERSION, VERSION), "made_by": mapping(lambda value: value), "finished": truth, "rows": whole(0),
    "bytes": whole(0), "counts": mapping(whole(0)), "names_sha256": _hash,
})  # fmt: skip


def earlier_record(path: Path, made_by: dict[str, Any]) -> RunRecord | None:
    """The record of an earlier call of the same run, or None if there is none. Raises FileError or OutputError."""
    path_of_record = record_file(path)
    if not os.path.lexists(path_of_record):
        if os.path.lexists(path):
            raise OutputError(
                f"{path} exists and is not a result of zygal classify; give another name, or add --overwrite to replace it."
            )
        return None
    advice = f"{path_of_record} is not a run record that this release can resume (give another file, or start again with --overwrite)"
    document = rebuilt(
        parse_json(read_bytes(path_of_record, "a run record", _LARGEST_BYTES), advice, OutputError),
        _RULE, advice, OutputError,
    )  # fmt: skip
    del document["zygal_run"]
    run_record = RunRecord(**document)
    now = json.loads(json.dumps(made_by))
    others = [name for name in (*now, *run_record.made_by) if now.get(name) != run_record.made_by.get(name)]
    if others:
        name = others[0]
        state = "written" if run_record.finished else "started"
        raise OutputError(
            f"{path} was {state} by another run: {shown(name).strip(chr(39))} was {shown(run_record.made_by.get(name), 40)} and is now "
            f"{shown(now.get(name), 40)}; give another file, or start again with --overwrite."
        )
    if run_record.finished and not os.path.exists(path) and not os.path.exists(rows_file(path)):
        return None
    return run_record


def write_record(path: Path, run_record: RunRecord) -> None:
    target = record_file(path)
    new = _new(target)
    with new.open("w", encoding="utf-8") as file:
        json.dump({"zygal_run": VERSION, **asdict(run_record)}, file, indent=1)
        file.flush()
        os.fsync(file.fileno())
    os.replace(new, target)


def files_of(path: str | Path | None) -> list[str]:
    """The files that a run may leave next to FILE."""
    if path is None:
        return []
    run_record = record_file(Path(path))
    others = (rows_file(Path(path)), run_record, _new(run_record), lock_file(Path(path)), converted_file(Path(path)))
    return [str(each) for each in others]


def _new(run_record: Path) -> Path:
    return run_record.with_name(run_record.name + ".new")


def rows_file(path: Path) -> Path:
    return path.with_name(path.name + ".unfinished")


def converted_file(path: Path) -> Path:
    return path.with_name(path.name + ".unfinished.converted")


def record_file(path: Path) -> Path:
    return path.with_name(path.name + ".run.json")


def lock_file(path: Path) -> Path:
    return path.with_name(path.name + ".run.lock")
