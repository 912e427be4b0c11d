"""Plans from TOML files: extended by each other, checked key by key, their paths found.

What is unknown or contradicts something else is refused by name.
"""

from __future__ import annotations

import hashlib
import os
from dataclasses import fields
from difflib import get_close_matches
from pathlib import Path
from typing import Any

from zygal.errors import PlanError
from zygal.files.documents import Misfit, parse_toml
from zygal.files.opening import read_text
from zygal.signoff.plan import PLAN_VERSION, TABLES, Plan, SpeedLimit, gate_names

VERSION_KEY = "zygal_plan"
TOP_KEYS = (VERSION_KEY, "extends", "title", "report_only", "without")
DEEPEST = 8
_COMPARED_BY_ROLE = ("source", "float")


def read_plan(path: str | Path, allow_outside: bool = False, run_code: bool = False) -> Plan:
    """The plan of a TOML file. allow_outside: it may name files outside its folder. run_code: its source may be
    FILE.py:FUNCTION, which is run. Raises FileError or PlanError."""
    home = os.path.realpath(os.path.dirname(os.path.abspath(path)))
    digest = hashlib.sha256()
    document = _extended(str(path), home, allow_outside, digest, ())
    plan = _plan_of(document, str(path), digest.hexdigest())
    if not run_code and ".py:" in (plan.model.source or ""):
        raise PlanError(
            f"{path}: model.source {plan.model.source} is Python code, which would be run; add --run-code if "
            f"you trust it."
        )
    check_plan(plan)
    return plan


def _extended(path: str, home: str, allow_outside: bool, digest: Any, below: tuple[str, ...]) -> dict[str, Any]:
    """The document of a file laid over those that it extends, its paths made good from where they stand."""
    real = os.path.realpath(path)
    if real in below:
        raise PlanError(f"{path} extends itself by way of {Path(below[-1]).name}; take one of the two lines out.")
    if len(below) >= DEEPEST:
        raise PlanError(
            f"{path} is the end of a chain of more than {DEEPEST} plans that extend each other; shorten it."
        )
    content = read_text(path, "a plan", 1_000_000)
    digest.update(content.encode() + b"\0")
    document = parse_toml(content, path, PlanError)
    if document.get(VERSION_KEY) != PLAN_VERSION:
        found = (
            f"{VERSION_KEY} = {document[VERSION_KEY]!r}"
            if VERSION_KEY in document
            else f"no line {VERSION_KEY} = {PLAN_VERSION}, so it is not a plan"
        )
        raise PlanError(
            f"{path} has {found}; this release reads version {PLAN_VERSION}. Write a plan with: zygal signoff "
            f"--new {path}"
        )
    _check_names(document, path)
    _place_paths(document, path, home, allow_outside)
    extended = document.pop("extends", None)
    if extended is None:
        return _without(document, path)
    if type(extended) is not str:
        raise PlanError(f"{path}: extends must be the path of another plan.")
    base = _extended(
        _placed(extended, path, home, allow_outside, "extends"), home, allow_outside, digest, (*below, real)
    )
    return _without(_laid_over(document, base), path)


def _check_names(document: dict[str, Any], path: str) -> None:
    for name, value in document.items():
        if name not in TABLES and name not in TOP_KEYS:
            raise PlanError(f"{path} has the unknown key {name}{_meant(name, [*TABLES, *TOP_KEYS])}.")
        if name in TABLES:
            if type(value) is not dict:
                raise PlanError(f"{path}: {name} must be a table, [{name}].")
            known = [each.name for each in fields(TABLES[name])]
            for inner in value:
                if inner not in known:
                    raise PlanError(f"{path}: [{name}] has the unknown key {inner}{_meant(inner, known)}.")


def _meant(name: str, known: list[str]) -> str:
    close = get_close_matches(name, known, 1)
    return f"; did you mean {close[0]}?" if close else f"; it can hold {', '.join(known)}"


def _place_paths(document: dict[str, Any], path: str, home: str, allow_outside: bool) -> None:
    for name, record in TABLES.items():
        for each in fields(record):
            value = document.get(name, {}).get(each.name)
            if (
                each.metadata["path"]
                and type(value) is str
                and not (each.name == "compare" and value in _COMPARED_BY_ROLE)
            ):
                document[name][each.name] = _placed(value, path, home, allow_outside, f"{name}.{each.name}")


def _placed(value: str, path: str, home: str, allow_outside: bool, name: str) -> str:
    """A path from the folder of the file that states it. Raises PlanError if it leads out of the plan's folder."""
    if not value or "\0" in value:
        raise PlanError(f"{path}: {name} is {'empty' if not value else 'no valid path'}.")
    file, colon, function = value.rpartition(":") if ".py:" in value else (value, "", "")
    joined = os.path.normpath(os.path.join(os.path.dirname(path), file))
    if not allow_outside and os.path.commonpath([home, os.path.realpath(joined)]) != home:
        raise PlanError(
            f"{path}: {name} = {value!r} lies outside the plan's folder; add --allow-outside if that is meant."
        )
    return joined + colon + function


def _laid_over(upper: dict[str, Any], lower: dict[str, Any]) -> dict[str, Any]:
    """Tables key by key; anything else is replaced."""
    made = dict(lower)
    for name, value in upper.items():
        inner = type(value) is dict and type(lower.get(name)) is dict
        made[name] = _laid_over(value, lower[name]) if inner else value
    return made


def _without(document: dict[str, Any], path: str) -> dict[str, Any]:
    """What the key `without` takes out, tables or single keys, of the plans below."""
    for name in _names(document.pop("without", []), path, "without"):
        table, _, inner = name.partition(".")
        place = document.get(table, {}) if inner else document
        if (inner or table) not in place or table in TOP_KEYS:
            raise PlanError(f"{path}: without names {name}, which no plan here states.")
        del place[inner or table]
    return document


def _names(value: Any, path: str, what: str) -> list[str]:
    if type(value) is not list or not all(type(each) is str for each in value):
        raise PlanError(f"{path}: {what} must be a list of names in quotes.")
    return value


def _plan_of(document: dict[str, Any], path: str, sha256: str) -> Plan:
    made: dict[str, Any] = {
        name: _record(TABLES[name], document[name], path, name) for name in TABLES if name in document
    }
    title = document.get("title", Path(path).stem)
    if type(title) is not str or not title.strip():
        raise PlanError(f"{path}: title must be text.")
    report_only = _names(document.get("report_only", []), path, "report_only")
    for name in report_only:
        if name not in gate_names():
            raise PlanError(f"{path}: report_only names {name}, which is no gate{_meant(name, gate_names())}.")
    given = frozenset(f"{table}.{name}" for table in made for name in document[table])
    return Plan(path=path, sha256=sha256, title=title.strip(), report_only=tuple(report_only), given=given, **made)


def _record(record: type, document: dict[str, Any], path: str, place: str) -> Any:
    known = {each.name: each for each in fields(record)}
    values = {}
    for name, value in document.items():
        if name not in known:
            raise PlanError(f"{path}: [[{place}]] has the unknown key {name}{_meant(name, list(known))}.")
        try:
            values[name] = known[name].metadata["rule"](value)
        except Misfit as fault:
            raise PlanError(f"{path}: {place}.{name} must be {fault.wanted} (got {value!r}).") from fault
    if "limits" in values:
        values["limits"] = tuple(_record(SpeedLimit, each, path, f"{place}.limits") for each in values["limits"])
    return record(**values)


def check_plan(plan: Plan) -> None:
    """Raises PlanError for gates that contradict each other, or that nothing in the plan can measure."""
    for fault in _faults(plan):
        raise PlanError(f"{plan.path}: {fault}.")


def _faults(plan: Plan):  # noqa: C901
    model, data, accuracy, speed = plan.model, plan.data, plan.accuracy, plan.speed
    if model.artifact is None:
        yield "model.artifact is missing; name the artifact to sign off"
    if model.weights and not model.source:
        yield "model.weights needs model.source"
    if "convert" in {name.partition(".")[0] for name in plan.given} and not model.source:
        yield "[convert] needs model.source; an artifact alone is not converted"
    yield from _faults_of_shrink(plan)
    if data.reference and not data.witness:
        yield "data.reference needs data.witness, which is what the images are held against"
    stated = [name for name in plan.given if name.startswith("agreement.")]
    if stated and not data.witness:
        yield f"{min(stated)} needs data.witness"
    if not plan.shrink and {"agreement.shrunk_top_1", "agreement.shrunk_order"} & plan.given and model.source:
        yield "agreement.shrunk_top_1 and shrunk_order are limits of shrunk artifacts, but the plan makes a float one"
    stated = [name for name in plan.given if name.startswith("accuracy.")]
    if stated and not data.labelled:
        yield f"{min(stated)} needs data.labelled"
    if (accuracy.lost_at_most is None) != (accuracy.compare is None):
        yield "accuracy.lost_at_most and accuracy.compare need each other: how much may be lost, and to what"
    if accuracy.compare == "source" and not model.source:
        yield 'accuracy.compare = "source" needs model.source'
    for table, every in (("classes", "each_class_at_least"), ("groups", "each_group_at_least")):
        least = getattr(accuracy, every)
        for name, share in getattr(accuracy, table).items():
            if least is not None and share < least:
                yield f"accuracy.{table}.{name} = {share:g} contradicts {every} = {least:g}, which is stricter"
    if (
        plan.portability.opset_at_most is not None
        and plan.convert.opset is not None
        and plan.convert.opset > plan.portability.opset_at_most
    ):
        yield (
            f"convert.opset = {plan.convert.opset} contradicts portability.opset_at_most = "
            f"{plan.portability.opset_at_most}"
        )
    if plan.memory.peak_at_most_mb is not None and speed is None:
        yield "memory.peak_at_most_mb is measured with the speed, so it needs a table [speed]"
    if speed is not None:
        yield from _faults_of_speed(speed)


def _faults_of_shrink(plan: Plan):
    shrink = plan.shrink
    if plan.accuracy.compare == "float" and shrink is None:
        yield 'accuracy.compare = "float" needs a table [shrink]'
    if shrink is None:
        return
    if shrink.output is None:
        yield "shrink.output is missing; name the artifact to make"
    if shrink.output == plan.model.artifact:
        yield "shrink.output is model.artifact; give the shrunk artifact a name of its own"
    if shrink.images is None and plan.data.witness is None:
        yield "[shrink] needs shrink.images or data.witness to calibrate with"
    if shrink.lose is not None and plan.data.labelled is None:
        yield "shrink.lose needs data.labelled"
    if shrink.half and (shrink.agree, shrink.lose, shrink.speed) != (None, None, None):
        yield "shrink.half has no layers to choose, so agree, lose and speed do not apply"


def _faults_of_speed(speed: Any):
    if (speed.slowdown_at_most is None) != (speed.earlier is None):
        yield "speed.slowdown_at_most and speed.earlier need each other: how much slower, and than what"
    if speed.image_size is not None and len(speed.image_size) != 2:
        yield "speed.image_size must be [height, width]"
    seen = set()
    for limit in speed.limits:
        if limit.batch is None or limit.threads is None:
            yield "each of [[speed.limits]] needs batch and threads"
        if limit.p99_at_most_ms is limit.median_at_most_ms is limit.images_per_second_at_least is None:
            yield f"[[speed.limits]] for batch {limit.batch} states no limit"
        if (limit.batch, limit.threads) in seen:
            yield f"[[speed.limits]] states batch {limit.batch} with {limit.threads} threads twice"
        seen.add((limit.batch, limit.threads))
        median, p99 = limit.median_at_most_ms, limit.p99_at_most_ms
        if median and p99 and median > p99:
            yield (
                f"median_at_most_ms = {median:g} contradicts p99_at_most_ms = {p99:g} at batch {limit.batch}: a "
                f"median cannot exceed the p99"
            )
