"""What has changed since an earlier sign-off, from the documents of both."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any

from zygal.errors import PlanError
from zygal.files.documents import either, listed, mapping, maybe, number, parse_json, rebuilt, record, text, truth
from zygal.files.opening import read_bytes
from zygal.outcome import WORST_FIRST, Verdict
from zygal.wording import amount, percent

LARGEST_BYTES = 200_000_000
KIND = "zygal.signoff"


def read_signoff(path: str | Path) -> dict[str, Any]:
    """The document of an earlier run. Raises FileError or PlanError."""
    document = parse_json(read_bytes(path, "the result of zygal signoff", LARGEST_BYTES), str(path), PlanError)
    if document.get("kind") != KIND:
        raise PlanError(
            f"{path} is not the result of zygal signoff (result.json); its kind is {document.get('kind')!r}."
        )
    if document.get("version") != 1:
        raise PlanError(f"{path} has version {document.get('version')!r}; this release reads version 1.")
    if document.get("verdict") in (Verdict.REFUSED.value, Verdict.INTERRUPTED.value):
        raise PlanError(
            f"{path} is of a sign-off that was {document['verdict']}, so there is nothing to compare with; give "
            f"the result of one that ended."
        )
    rebuilt({name: document.get(name) for name in _FIELDS}, record(_FIELDS), str(path), PlanError)
    return document


def _anything(value: Any) -> Any:
    return value


_FILE = record({"role": text, "path": text, "sha256": text, "files": number, "size_bytes": number})
_CHECK = record(
    {
        "name": text,
        "required": truth,
        "detail": text,
        "condition": text,
        "measured": maybe(number),
        "limit": number,
        "unit": text,
        "explanation": text,
        "at_least": truth,
        "passed": truth,
        "verdict": either(*(each.value for each in Verdict)),
        "low": maybe(number),
        "high": maybe(number),
        "deciding": text,
    }
)
_FIELDS = {
    "title": text,
    "plan": text,
    "signed_off": truth,
    "verdict": either(*(each.value for each in Verdict)),
    "signed_at": text,
    "artifact": _FILE,
    "inputs": listed(_FILE),
    "versions": mapping(text),
    "machine": mapping(_anything),
    "checks": listed(_CHECK),
    "steps": mapping(record({"seconds": number, "measured_at": text, "reused": truth, "document": mapping(_anything)})),
}
"""What is read of a result; the documents of its steps are looked into where they are compared."""


def changes_since(earlier: Mapping[str, Any], now: Mapping[str, Any]) -> list[dict[str, str]]:
    """Rows of what, earlier, now, and whether it is worse, better or neither. Raises PlanError where a step's document
    is none."""
    try:
        return [
            *_verdicts(earlier, now),
            *_files(earlier, now),
            *_versions(earlier, now),
            *_figures(earlier, now),
            *_answers(earlier, now),
        ]
    except (KeyError, TypeError, IndexError, ValueError, AttributeError) as fault:
        raise PlanError(
            f"the earlier result has a step that is damaged ({type(fault).__name__}: {fault}); give another one."
        ) from fault


_RANKS = tuple(each.value for each in WORST_FIRST)


def _row(what: str, before: str, after: str, kind: str = "changed") -> dict[str, str]:
    return {"what": what, "earlier": before, "now": after, "kind": kind}


def _key(check: Mapping[str, Any]) -> tuple[str, str]:
    return check["name"], check["condition"]


def _shown(check: Mapping[str, Any]) -> str:
    if check["measured"] is None:
        return "not measured"
    return f"{amount(check['measured'], check['unit'])} ({check['verdict']})"


def _verdicts(earlier: Mapping[str, Any], now: Mapping[str, Any]) -> Iterator[dict[str, str]]:
    """Gates that came, went, or whose result or limit is another one."""
    before, after = ({_key(each): each for each in document["checks"]} for document in (earlier, now))
    for key, check in after.items():
        was = before.get(key)
        name = f"{check['name']}: {check['condition']}"
        if was is None:
            yield _row(name, "no such gate", _shown(check))
        elif was["verdict"] != check["verdict"]:
            same_limit = was["limit"] == check["limit"]
            yield _row(
                name,
                _shown(was),
                _shown(check),
                ("better" if _RANKS.index(check["verdict"]) > _RANKS.index(was["verdict"]) else "worse")
                if same_limit
                else "changed",
            )
        if was and (was["limit"], was["required"]) != (check["limit"], check["required"]):
            words = [
                f"{amount(each['limit'], each['unit'])}{'' if each['required'] else ', only reported'}"
                for each in (was, check)
            ]
            yield _row(f"{name}, limit", *words)
    for key, check in before.items():
        if key not in after:
            yield _row(f"{check['name']}: {check['condition']}", _shown(check), "no such gate")


def _files(earlier: Mapping[str, Any], now: Mapping[str, Any]) -> Iterator[dict[str, str]]:
    before, after = (
        {each["role"]: each for each in (document["artifact"], *document["inputs"])} for document in (earlier, now)
    )
    for role in dict.fromkeys((*before, *after)):
        was, is_now = (found.get(role) for found in (before, after))
        if (was and was["sha256"]) != (is_now and is_now["sha256"]):
            yield _row(
                role, *(f"{each['sha256'][:12]} ({each['path']})" if each else "not named" for each in (was, is_now))
            )


def _versions(earlier: Mapping[str, Any], now: Mapping[str, Any]) -> Iterator[dict[str, str]]:
    before = {**earlier["versions"], "processor": str(earlier["machine"].get("processor"))}
    after = {**now["versions"], "processor": str(now["machine"].get("processor"))}
    for name in dict.fromkeys((*before, *after)):
        if before.get(name) != after.get(name):
            yield _row(name, before.get(name, "not installed"), after.get(name, "not installed"))


def _figures(earlier: Mapping[str, Any], now: Mapping[str, Any]) -> Iterator[dict[str, str]]:
    """Accuracy with its interval, and the speed at each setting where the intervals do not overlap."""
    tallies = [_document(each, "accuracy") for each in (earlier, now)]
    if all(tallies):
        before, after = (each["accuracy"] for each in tallies)
        if before["value"] != after["value"]:
            words = [
                f"{percent(each['value'])} (95 % CI {percent(each['ci95_low'])} to {percent(each['ci95_high'])})"
                for each in (before, after)
            ]
            yield _row(
                "accuracy on the labelled images", *words, "better" if after["value"] > before["value"] else "worse"
            )
    benches = [_document(each, "speed") for each in (earlier, now)]
    if not all(benches) or earlier["machine"].get("processor") != now["machine"].get("processor"):
        return
    before, after = ({(cell["batch_images"], cell["threads"]): cell for cell in each["cells"]} for each in benches)
    for setting in (each for each in after if each in before):
        (low, high), (low_now, high_now) = (cells[setting]["latency_ci95_seconds"] for cells in (before, after))
        if low_now > high or high_now < low:
            words = [f"{1e3 * cells[setting]['latency_median_seconds']:.3g} ms" for cells in (before, after)]
            yield _row(
                f"median time, batch {setting[0]}, {setting[1]} threads",
                *words,
                "worse" if low_now > high else "better",
            )


def _answers(earlier: Mapping[str, Any], now: Mapping[str, Any]) -> Iterator[dict[str, str]]:
    """Reference images whose top-1 class is another one."""
    matches = [_document(each, "agreement") for each in (earlier, now)]
    if not all(matches):
        return
    before, after = ({image["name"]: image["artifact_top"][0] for image in each["images"]} for each in matches)
    for name in (each for each in after if each in before):
        if before[name]["label"] != after[name]["label"]:
            yield _row(f"top-1 class of {name}", before[name]["label"], after[name]["label"])


def _document(whole: Mapping[str, Any], step: str) -> Mapping[str, Any] | None:
    found = whole["steps"].get(step)
    return found and found["document"]
