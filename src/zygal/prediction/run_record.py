"""The record beside a file of rows: what the run depends on, how many rows are safe, and the names of its files."""

from __future__ import annotations

import hashlib
import json
import os
from dataclasses import asdict, dataclass, field
from itertools import zip_longest
from pathlib import Path
from typing import Any

from zygal.errors import OutputError, shown
from zygal.files.documents import Misfit, mapping, parse_json, rebuilt, record, truth, whole
from zygal.files.opening import read_bytes

VERSION = 2
_LARGEST_BYTES = 64_000_000


@dataclass(frozen=True)
class RunRecord:
    """What FILE.run.json holds. made_by: what the rows depend on, by names that a message can use. states_bytes: how
    many bytes of FILE.run.images are safe, a line for each row. counts: of whatever the run counts. names_sha256: of
    the files' names, one per line, in the order of the rows."""

    made_by: dict[str, Any]
    finished: bool = False
    rows: int = 0
    bytes: int = 0
    states_bytes: int = 0
    counts: dict[str, int] = field(default_factory=dict)
    names_sha256: str = hashlib.sha256().hexdigest()


def _hash(value: Any) -> str:
    if not isinstance(value, str) or len(value) != 64 or set(value) - set("0123456789abcdef"):
        raise Misfit("a SHA-256", value)
    return value


_RULE = record(
    {
        "zygal_run": whole(VERSION, VERSION),
        "made_by": mapping(lambda value: value),
        "finished": truth,
        "rows": whole(0),
        "bytes": whole(0),
        "states_bytes": whole(0),
        "counts": mapping(whole(0)),
        "names_sha256": _hash,
    }
)


def earlier_record(path: Path, made_by: dict[str, Any]) -> RunRecord | None:
    """The record of an earlier call of the same run, or None if there is none. Raises FileError or OutputError."""
    path_of_record = record_file(path)
    if not os.path.lexists(path_of_record):
        if os.path.lexists(path):
            raise OutputError(
                f"{path} exists and is not a result of zygal classify; give another name, or add --overwrite to "
                f"replace it."
            )
        return None
    advice = (
        f"{path_of_record} is not a run record that this release can resume (give another file, or start again with "
        f"--overwrite)"
    )
    document = rebuilt(
        parse_json(read_bytes(path_of_record, "a run record", _LARGEST_BYTES), advice, OutputError),
        _RULE,
        advice,
        OutputError,
    )
    del document["zygal_run"]
    run_record = RunRecord(**document)
    now = json.loads(json.dumps(made_by))
    others = [name for name in (*now, *run_record.made_by) if now.get(name) != run_record.made_by.get(name)]
    if others:
        name = others[0]
        state = "written" if run_record.finished else "started"
        raise OutputError(
            f"{path} was {state} by another run: {_difference(name, run_record.made_by.get(name), now.get(name))}; "
            "give another file, or start again with --overwrite."
        )
    if run_record.finished and not os.path.exists(path) and not os.path.exists(rows_file(path)):
        return None
    return run_record


def _difference(name: str, before: Any, after: Any) -> str:
    """What was changed, so that the two sides do not look alike where their beginnings are."""
    name = shown(name).strip("'")
    if isinstance(before, dict) and isinstance(after, dict):
        keys = [key for key in (*after, *before) if before.get(key) != after.get(key)]
        return _difference(f"{name} ({keys[0]})", before.get(keys[0]), after.get(keys[0]))
    if isinstance(before, list) and isinstance(after, list):
        place = next(
            (index for index, pair in enumerate(zip(before, after)) if pair[0] != pair[1]), min(len(before), len(after))
        )
        if len(before) != len(after):
            return f"{name} were {len(before)} and are now {len(after)}"
        return _difference(f"number {place} of {name}", before[place], after[place])
    if isinstance(before, str) and isinstance(after, str) and "\n" in before + after:
        lines = [
            pair for pair in zip_longest(before.splitlines(), after.splitlines(), fillvalue="") if pair[0] != pair[1]
        ]
        before, after = lines[0]
    was, now = shown(before, 40), shown(after, 40)
    return f"{name} was {was} and is now {now}" if was != now else f"{name} is another one now"


def write_record(path: Path, run_record: RunRecord) -> None:
    """Writes the record whole or not at all."""
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
    rows, states = rows_file(Path(path)), states_file(Path(path))
    others = (
        rows,
        states,
        earlier(rows),
        earlier(states),
        run_record,
        _new(run_record),
        lock_file(Path(path)),
        converted_file(Path(path)),
    )
    return [str(each) for each in others]


def _new(run_record: Path) -> Path:
    return run_record.with_name(run_record.name + ".new")


def rows_file(path: Path) -> Path:
    """Where rows stand until the output is complete."""
    return path.with_name(path.name + ".unfinished")


def converted_file(path: Path) -> Path:
    """Where the output stands while it is made of the rows."""
    return path.with_name(path.name + ".unfinished.converted")


def states_file(path: Path) -> Path:
    """Where the states of the images stand."""
    return path.with_name(path.name + ".run.images")


def earlier(path: Path) -> Path:
    """What a file is called while another one is made of it."""
    return path.with_name(path.name + ".earlier")


def record_file(path: Path) -> Path:
    """Where the record stands."""
    return path.with_name(path.name + ".run.json")


def lock_file(path: Path) -> Path:
    """What a run locks."""
    return path.with_name(path.name + ".run.lock")
