"""What every command returns: its gates, notes and unreadable inputs, and one JSON document.

The verdict and the exit code are computed here and nowhere else.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from dataclasses import asdict, dataclass
from typing import Any, ClassVar

from zygal import __version__
from zygal.errors import ZygalError
from zygal.exit_codes import GATE_FAILED, INTERRUPTED, INVALID, PASS, SOME_UNREADABLE


@dataclass(frozen=True)
class Gate:
    """One measurable condition. It passes if `measured` is not above `limit` (with at_least: not below it), both in `unit`.

    name: a short name, such as "A". condition: what is measured. measured: None if it could not be measured; `explanation`
    then says why, and the gate fails.
    """

    name: str
    condition: str
    measured: float | None
    limit: float
    unit: str
    explanation: str = ""
    at_least: bool = False

    @property
    def passes(self) -> bool:
        if self.measured is None:
            return False
        return self.measured >= self.limit if self.at_least else self.measured <= self.limit

    def document(self) -> dict[str, Any]:
        return asdict(self) | {"passed": self.passes}


@dataclass(frozen=True, kw_only=True)
class Outcome(ABC):
    """What a command found. Each command has its own subclass with its own result.

    kind, version: name and version of the JSON document. notes: sentences that the user should read. unreadable: (input,
    reason) of inputs that could not be read; the result is valid for the others. unreadable_count: how many they are, if
    not all are listed. written: paths of the output files. interrupted: the user ended the command early, and the result
    covers what was done until then. next_step: the one command that the user should run next, or None. refusal: an error in one
    part of the request; the rest of the result is valid.
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
    def failed_gates(self) -> tuple[Gate, ...]:
        return tuple(gate for gate in self.gates if not gate.passes)

    @property
    def inputs_unreadable(self) -> int:
        """How many inputs could not be read."""
        return len(self.unreadable) if self.unreadable_count is None else self.unreadable_count

    @property
    def exit_code(self) -> int:
        if self.interrupted:
            return INTERRUPTED
        if self.refusal is not None:
            return INVALID
        if self.failed_gates:
            return GATE_FAILED
        return SOME_UNREADABLE if self.inputs_unreadable else PASS

    @abstractmethod
    def result(self) -> dict[str, Any]:
        """The command's own part of the document."""

    def document(self) -> dict[str, Any]:
        """The whole result as JSON data. The schema is in docs/schemas."""
        return {
            "kind": self.kind,
            "version": self.version,
            "zygal_version": __version__,
            "exit_code": self.exit_code,
            "passed": not self.failed_gates,
            "gates": [gate.document() for gate in self.gates],
            "notes": list(self.notes),
            "unreadable_count": self.inputs_unreadable,
            "unreadable": [{"file": name, "reason": reason} for name, reason in self.unreadable],
            "written": list(self.written),
            "interrupted": self.interrupted,
            "next_step": self.next_step,
            **self.result(),
        }
