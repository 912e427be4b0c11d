"""What every command returns: its gates, notes and unreadable inputs, one verdict and one JSON document.

The verdict is computed here and nowhere else; exit code, sentences, pages and JUnit files follow from it.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterable
from dataclasses import asdict, dataclass
from enum import Enum
from typing import Any, ClassVar

from zygal import __version__
from zygal.errors import ZygalError

PASS, GATE_FAILED, INVALID, SOME_UNREADABLE, UNDECIDED, INTERNAL, INTERRUPTED, TERMINATED = 0, 1, 2, 3, 4, 70, 130, 143
"""How the program ends: the one list of exit codes."""


class Verdict(str, Enum):
    """How a command, or one gate of it, ended. Undecided: no gate failed, but at least one is not known, or there is
    nothing that could be known. Refused: the input, the usage or a part of the request is invalid."""

    PASSED = "passed"
    FAILED = "failed"
    UNDECIDED = "undecided"
    REFUSED = "refused"
    INTERRUPTED = "interrupted"


EXIT_CODES = {
    Verdict.PASSED: PASS,
    Verdict.FAILED: GATE_FAILED,
    Verdict.UNDECIDED: UNDECIDED,
    Verdict.REFUSED: INVALID,
    Verdict.INTERRUPTED: INTERRUPTED,
}
"""Of each verdict; PASSED with inputs that could not be read has SOME_UNREADABLE."""


@dataclass(frozen=True)
class Gate:
    """One measurable condition: `measured` is not above `limit` (with at_least: not below it), both in `unit`.

    name: a short name, such as "A". condition: what is measured. measured: None if it could not be measured;
    `explanation` then says why, and the gate fails. low, high: the 95 % interval of what is measured, where it is an
    estimate: the gate passes or fails only if all of it lies on one side of the limit, and is undecided else. deciding:
    what would decide it then.
    """

    name: str
    condition: str
    measured: float | None
    limit: float
    unit: str
    explanation: str = ""
    at_least: bool = False
    low: float | None = None
    high: float | None = None
    deciding: str = ""

    @property
    def verdict(self) -> Verdict:
        """Passed or failed; undecided where the interval covers both sides of the limit."""
        if self.measured is None:
            return Verdict.FAILED
        sides = {self._holds(self.measured if end is None else end) for end in (self.low, self.measured, self.high)}
        return Verdict.UNDECIDED if len(sides) > 1 else Verdict.PASSED if sides == {True} else Verdict.FAILED

    def _holds(self, value: float) -> bool:
        return value >= self.limit if self.at_least else value <= self.limit

    @property
    def passes(self) -> bool:
        """Whether it passes."""
        return self.verdict is Verdict.PASSED

    def document(self) -> dict[str, Any]:
        """The gate as JSON data."""
        return asdict(self) | {"verdict": self.verdict.value, "passed": self.passes}


WORST_FIRST = (Verdict.FAILED, Verdict.UNDECIDED, Verdict.PASSED)
"""The verdicts of gates."""


def verdict_of(gates: Iterable[Gate]) -> Verdict:
    """Of all gates together: failed if one fails, undecided if one is not known, else passed."""
    found = {gate.verdict for gate in gates}
    return next((each for each in WORST_FIRST if each in found), Verdict.PASSED)


@dataclass(frozen=True, kw_only=True)
class Outcome(ABC):
    """What a command found. Each command has its own subclass with its own result.

    kind, version: name and version of the JSON document. notes: sentences that the user should read. unreadable:
    (input, reason) of inputs that could not be read; the result is valid for the others. unreadable_count: how many
    they are, if not all are listed. written: paths of the output files. interrupted: the user ended the command early,
    and the result covers what was done until then. next_step: the one command that the user should run next, or None.
    refusal: an error in one part of the request; the rest of the result is valid.
    """

    kind: ClassVar[str]
    version: ClassVar[int] = 1

    gates: tuple[Gate, ...] = ()
    notes: tuple[str, ...] = ()
    unreadable: tuple[tuple[str, str], ...] = ()
    unreadable_count: int | None = None
    written: tuple[str, ...] = ()
    interrupted: bool = False
    next_step: str | None = None
    refusal: ZygalError | None = None

    @property
    def conclusions(self) -> tuple[str, ...]:
        """What follows from the figures, in sentences."""
        return ()

    @property
    def failed_gates(self) -> tuple[Gate, ...]:
        """The gates that failed."""
        return tuple(gate for gate in self.gates if gate.verdict is Verdict.FAILED)

    @property
    def undecided_gates(self) -> tuple[Gate, ...]:
        """The gates that are not known."""
        return tuple(gate for gate in self.gates if gate.verdict is Verdict.UNDECIDED)

    @property
    def inputs_unreadable(self) -> int:
        """How many inputs could not be read."""
        return len(self.unreadable) if self.unreadable_count is None else self.unreadable_count

    @property
    def verdict(self) -> Verdict:
        """How the command ended."""
        if self.interrupted:
            return Verdict.INTERRUPTED
        return verdict_of(self.gates) if self.refusal is None else Verdict.REFUSED

    @property
    def exit_code(self) -> int:
        """How the program ends."""
        if self.verdict is Verdict.PASSED and self.inputs_unreadable:
            return SOME_UNREADABLE
        return EXIT_CODES[self.verdict]

    @abstractmethod
    def result(self) -> dict[str, Any]:
        """The command's own part of the document."""

    def document(self) -> dict[str, Any]:
        """The whole result as JSON data. The schema is in docs/schemas."""
        return {
            **_head(self.kind, self.version, self.verdict, self.exit_code, self.refusal and str(self.refusal)),
            "gates": [gate.document() for gate in self.gates],
            "conclusions": list(self.conclusions),
            "notes": list(self.notes),
            "unreadable_count": self.inputs_unreadable,
            "unreadable": [{"file": name, "reason": reason} for name, reason in self.unreadable],
            "written": list(self.written),
            "next_step": self.next_step,
            **self.result(),
        }


def _head(kind: str, version: int, verdict: Verdict, exit_code: int, refusal: str | None) -> dict[str, Any]:
    passed = verdict is Verdict.PASSED
    return {
        "kind": kind,
        "version": version,
        "zygal_version": __version__,
        "verdict": verdict.value,
        "exit_code": exit_code,
        "passed": passed,
        "refusal": refusal,
    }


def ended_document(kind: str, verdict: Verdict, exit_code: int, sentence: str) -> dict[str, Any]:
    """The JSON document of a command that ended without a result: refused, interrupted, or by an internal error."""
    return _head(kind, Outcome.version, verdict, exit_code, sentence)
