"""zygal demo: the example's files, and the result of running its commands."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any, ClassVar

from zygal.outcome import Gate, Outcome
from zygal.request import Request, option


@dataclass(frozen=True, kw_only=True)
class DemoRequest(Request):
    """What zygal demo is asked for."""

    folder: str = option(
        "the folder to write (default: {default})", "zygal-demo", positional=True, nargs="?", metavar="DIR", reads=True
    )


@dataclass(frozen=True)
class StepResult:
    """One command of the demo, and how it ended."""

    command: tuple[str, ...]
    exit_code: int
    expected_exit_code: int


@dataclass(frozen=True, kw_only=True)
class DemoOutcome(Outcome):
    """All commands that the demo ran."""

    kind: ClassVar[str] = "zygal.demo"

    folder: str
    steps: tuple[StepResult, ...]

    def result(self) -> dict[str, Any]:
        """See `Outcome.result`."""
        return {"folder": self.folder, "steps": [vars(step) | {"command": list(step.command)} for step in self.steps]}


def run_demo(request: DemoRequest, run_step: Callable[[int, Any], int]) -> DemoOutcome:
    """Writes the files and runs each step with `run_step(number, step)`, which returns its exit code. Raises
    ZygalError."""
    from zygal.demo.workspace import STEPS, write_workspace

    write_workspace(request.folder)
    results = [
        StepResult(("zygal", *step.arguments), run_step(number, step), step.expected)
        for number, step in enumerate(STEPS, 1)
    ]
    return DemoOutcome(folder=request.folder, steps=tuple(results), gates=(_gate(results),))


def _gate(results: Sequence[StepResult]) -> Gate:
    wrong = sum(result.exit_code != result.expected_exit_code for result in results)
    return Gate("demo", "commands with another exit code than expected", wrong, 0, f"of {len(results)} commands")
