"""The JSON result of zygal signoff."""

from __future__ import annotations

from typing import Annotated, Any, Literal, TypedDict


class SignoffArtifact(TypedDict):
    role: Annotated[str, "key of the plan that names it"]
    path: str
    sha256: Annotated[str, "of a file's bytes; of several files, of their names and hashes"]
    files: int
    size_bytes: int


class SignoffChecks(TypedDict):
    name: Annotated[str, "key of the plan, such as accuracy.at_least, or agreement and a gate of zygal match"]
    condition: Annotated[str, "what is measured"]
    measured: Annotated[float | None, "null if it could not be measured; explanation then says why"]
    limit: float
    unit: Annotated[str, "share: from 0 to 1; release: the major number and a thousandth of the minor one"]
    explanation: str
    at_least: Annotated[bool, "the measured figure must be at least the limit, instead of at most"]
    passed: bool
    required: Annotated[bool, "whether it can fail the plan"]
    detail: Annotated[str, "what helps to judge the figure, such as its interval"]
    low: Annotated[float | None, "lower end of the 95 % interval of what is measured, where it is an estimate"]
    high: Annotated[float | None, "upper end of the interval"]
    deciding: Annotated[str, "what would decide an undecided gate"]
    verdict: Annotated[
        Literal["passed", "failed", "undecided"], "undecided: the interval covers both sides of the limit"
    ]


class SignoffSteps(TypedDict):
    seconds: Annotated[float, "that it took when it was computed"]
    measured_at: Annotated[str, "when it was computed, UTC"]
    reused: Annotated[bool, "taken from an earlier run, because nothing that it depends on has changed"]
    document: Annotated[dict[str, Any], "the JSON result of the command that measured"]


class SignoffChanges(TypedDict):
    what: str
    earlier: str
    now: str
    kind: Literal["changed", "worse", "better"]


class Signoff(TypedDict):
    title: str
    plan: Annotated[str, "path of the plan"]
    plan_sha256: Annotated[str | None, "of the plan and of those that it extends; null with --new"]
    signed_off: Annotated[bool, "whether there are required gates and all of them pass"]
    signed_at: Annotated[str | None, "UTC"]
    artifact: Annotated[SignoffArtifact | None, "what is signed off"]
    inputs: Annotated[list[SignoffArtifact], "every other file and folder that the plan names"]
    versions: Annotated[dict[str, str], "of Zygal, Python and the libraries"]
    machine: dict[str, Any]
    checks: Annotated[list[SignoffChecks], "every gate, also those that are only reported"]
    not_checked: Annotated[list[str], "sentences on what the plan leaves open"]
    steps: Annotated[dict[str, SignoffSteps], "what was done, by name"]
    changes: Annotated[list[SignoffChanges] | None, "since the run of --against"]
