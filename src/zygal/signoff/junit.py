"""The gates as JUnit XML, so that a build server shows them as tests."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any
from xml.etree import ElementTree

from zygal.errors import printable
from zygal.wording import amount


def junit_text(document: Mapping[str, Any]) -> str:
    """One suite for each table of the plan, one case for each gate; gates that are only reported are skipped cases."""
    suites = ElementTree.Element("testsuites", name=f"zygal signoff: {printable(document['title'])}", **_counts(document["checks"]))
    sections: dict[str, list[Mapping[str, Any]]] = {}
    for check in document["checks"]:
        sections.setdefault(check["name"].partition(".")[0], []).append(check)
    for section, checks in sections.items():
        step = document["steps"].get({"portability": "survey", "memory": "speed"}.get(section, section), {"seconds": 0.0})
        suite = ElementTree.SubElement(suites, "testsuite", name=section, **_counts(checks), time=f"{step['seconds']:.3f}")
        for check in checks:
            _add_case(suite, section, check)
    ElementTree.indent(suites)
    return '<?xml version="1.0" encoding="utf-8"?>\n' + ElementTree.tostring(suites, encoding="unicode") + "\n"


def _counts(checks: Sequence[Mapping[str, Any]]) -> dict[str, str]:
    failures = sum(not each["passed"] for each in checks if each["required"])
    skipped = sum(not each["required"] for each in checks)
    return {"tests": str(len(checks)), "failures": str(failures), "errors": "0", "skipped": str(skipped)}


def _add_case(suite: ElementTree.Element, section: str, check: Mapping[str, Any]) -> None:
    case = ElementTree.SubElement(suite, "testcase", classname=f"zygal.{section}", name=printable(f"{check['name']}: {check['condition']}"))
    said = printable(sentence_of(check))
    if not check["required"]:
        ElementTree.SubElement(case, "skipped", message=f"only reported: {said}")
    elif not check["passed"]:
        ElementTree.SubElement(case, "failure", message=said, type="gate").text = printable(check["detail"])
    ElementTree.SubElement(case, "system-out").text = said


def sentence_of(check: Mapping[str, Any]) -> str:
    """Measured against limit, in words."""
    found = f"not measured ({check['explanation']})" if check["measured"] is None else amount(check["measured"], check["unit"])
    bound = "at least" if check["at_least"] else "at most"
    return f"{check['condition']}: {found}; limit: {bound} {amount(check['limit'], check['unit'])}" + (f"; {check['detail']}" if check["detail"] else "")
