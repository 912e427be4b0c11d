"""The gates as JUnit XML, so that a build server shows them as tests."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any
from xml.etree import ElementTree

from zygal.errors import printable
from zygal.outcome import Verdict
from zygal.wording import amount

NOTHING_REQUIRED = "The plan requires nothing that could be checked, so nothing is proved."


def junit_text(document: Mapping[str, Any]) -> str:
    """One suite for each table of the plan, one case for each gate: failed gates are failures, undecided ones errors,
    those that are only reported are skipped. A last case has the verdict where no gate states it: of a plan that
    requires nothing, or was refused or interrupted."""
    suites = ElementTree.Element(
        "testsuites", name=f"zygal signoff: {printable(document['title'])}", **_counts(document["checks"])
    )
    sections: dict[str, list[Mapping[str, Any]]] = {}
    for check in document["checks"]:
        sections.setdefault(check["name"].partition(".")[0], []).append(check)
    for section, checks in sections.items():
        step = document["steps"].get(
            {"portability": "survey", "memory": "speed"}.get(section, section), {"seconds": 0.0}
        )
        suite = ElementTree.SubElement(
            suites, "testsuite", name=section, **_counts(checks), time=f"{step['seconds']:.3f}"
        )
        for check in checks:
            _add_case(suite, section, check)
    if document["verdict"] not in (
        Verdict.PASSED.value,
        *(each["verdict"] for each in document["checks"] if each["required"]),
    ):
        suite = ElementTree.SubElement(
            suites, "testsuite", name="verdict", tests="1", failures="0", errors="1", skipped="0"
        )
        case = ElementTree.SubElement(suite, "testcase", classname="zygal.verdict", name="the plan was carried out")
        ElementTree.SubElement(
            case, "error", message=printable(document["refusal"] or NOTHING_REQUIRED), type=document["verdict"]
        )
        suites.set("tests", str(len(document["checks"]) + 1))
        suites.set("errors", str(1 + int(suites.get("errors"))))
    ElementTree.indent(suites)
    return '<?xml version="1.0" encoding="utf-8"?>\n' + ElementTree.tostring(suites, encoding="unicode") + "\n"


def _counts(checks: Sequence[Mapping[str, Any]]) -> dict[str, str]:
    verdicts = [each["verdict"] for each in checks if each["required"]]
    failures, errors = verdicts.count(Verdict.FAILED.value), verdicts.count(Verdict.UNDECIDED.value)
    return {
        "tests": str(len(checks)),
        "failures": str(failures),
        "errors": str(errors),
        "skipped": str(len(checks) - len(verdicts)),
    }


def _add_case(suite: ElementTree.Element, section: str, check: Mapping[str, Any]) -> None:
    case = ElementTree.SubElement(
        suite, "testcase", classname=f"zygal.{section}", name=printable(f"{check['name']}: {check['condition']}")
    )
    said = printable(sentence_of(check))
    if not check["required"]:
        ElementTree.SubElement(case, "skipped", message=f"only reported: {said}")
    elif check["verdict"] == Verdict.FAILED.value:
        ElementTree.SubElement(case, "failure", message=said, type="gate").text = printable(check["detail"])
    elif not check["passed"]:
        ElementTree.SubElement(case, "error", message=said, type=check["verdict"]).text = printable(check["detail"])
    ElementTree.SubElement(case, "system-out").text = said


def sentence_of(check: Mapping[str, Any]) -> str:
    """Measured against limit, in words."""
    found = (
        f"not measured ({check['explanation']})"
        if check["measured"] is None
        else amount(check["measured"], check["unit"])
    )
    bound = "at least" if check["at_least"] else "at most"
    parts = [
        f"{check['condition']}: {found}",
        f"limit: {bound} {amount(check['limit'], check['unit'])}",
        check["detail"],
    ]
    if check["verdict"] == Verdict.UNDECIDED.value:
        parts.append(f"undecided, because the limit lies within the interval; {check['deciding']}")
    return "; ".join(each for each in parts if each)
