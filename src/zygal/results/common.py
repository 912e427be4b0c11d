"""What the results of all commands share."""

from __future__ import annotations

from typing import Annotated, Literal, TypedDict

MISSING = "missing where it does not apply"
"""Marks a field that is not in every document."""


class Gate(TypedDict):
    name: str
    condition: str
    measured: Annotated[float | None, "in `unit`; null if it could not be measured"]
    limit: Annotated[float, "in `unit`"]
    unit: Annotated[str, '"share" is a share of one']
    explanation: str
    at_least: Annotated[bool, "the gate passes from the limit upwards, not downwards"]
    passed: bool
    low: Annotated[float | None, "lower end of the 95 % interval of what is measured, where it is an estimate"]
    high: Annotated[float | None, "upper end of the interval"]
    deciding: Annotated[str, "what would decide an undecided gate"]
    verdict: Annotated[
        Literal["passed", "failed", "undecided"], "undecided: the interval covers both sides of the limit"
    ]


class Unreadable(TypedDict):
    file: str
    reason: str


class Envelope(TypedDict):
    zygal_version: Annotated[str, "release that wrote the document"]
    verdict: Annotated[
        Literal["passed", "failed", "undecided", "refused", "interrupted"],
        "how the command ended; everything else follows from it",
    ]
    exit_code: Annotated[
        int,
        "0 pass, 1 a gate failed, 2 refused, 3 some inputs could not be read, 4 undecided, 70 internal error, "
        "130 and 143 interrupted",
    ]
    passed: Annotated[bool, 'whether the verdict is "passed"']
    refusal: Annotated[str | None, "why the command was refused or interrupted"]
    gates: Annotated[list[Gate], "measurable conditions with their limits, in the gate's own unit"]
    conclusions: Annotated[list[str], "what follows from the figures"]
    notes: Annotated[list[str], "sentences that the user should read"]
    unreadable_count: Annotated[int, "number of inputs that could not be read"]
    unreadable: Annotated[list[Unreadable], "inputs that could not be read, and why"]
    written: Annotated[list[str], "paths of the output files"]
    next_step: Annotated[str | None, "the command to run next"]
