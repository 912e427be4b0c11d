"""The gates and the last line of a report, the same for every command."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from zygal.cli.tables import show_sentence, show_table
from zygal.outcome import Gate, Outcome, Verdict
from zygal.wording import RELEASE, amount, clean_sentence, counted

PASSED, FAILED, UNDECIDED = "bold green", "bold red", "bold yellow"
WORDS = {
    Verdict.PASSED: "PASS",
    Verdict.FAILED: "FAIL",
    Verdict.UNDECIDED: "UNDECIDED",
    Verdict.REFUSED: "REFUSED",
    Verdict.INTERRUPTED: "INTERRUPTED",
}
_STYLES = {Verdict.PASSED: "green", Verdict.FAILED: FAILED}


def show_gates(out, gates: Sequence[Gate]) -> None:
    """A table of gates."""
    show_gate_rows(out, [(gate, gate.name, result_of_gate(gate)) for gate in gates])


def result_of_gate(gate: Gate, required: bool = True):
    """The gate's verdict in colour; of a gate that is not required, that it is only reported."""
    from rich.text import Text

    if not required:
        return Text("reported", style="yellow" if not gate.passes else "")
    return Text(WORDS[gate.verdict], style=_STYLES.get(gate.verdict, UNDECIDED))


def show_gate_rows(out, gates: Sequence[tuple[Gate, str, Any]], first: str = "gate") -> None:
    """A table of gates, each with the words of its first column and the result that it is shown with."""
    rows = []
    for gate, name, result in gates:
        measured = "-" if gate.measured is None else amount(gate.measured, gate.unit, False)
        condition = gate.condition + (f" ({gate.explanation or 'not measured'})" if gate.measured is None else "")
        limit = f"{'>=' if gate.at_least else '<='} {amount(gate.limit, gate.unit, False)}"
        rows.append([name, condition, result, measured, limit, "" if gate.unit in ("share", RELEASE) else gate.unit])
    show_table(out, [first, "condition", "result", "measured", "limit", "unit"], rows, left=3)


def show_verdict(out, outcome: Outcome, on: str = "") -> None:
    """The verdict with the names of the gates that make it, what would decide those that are undecided, and how many
    inputs could not be read. on: what was examined."""
    verdict = outcome.verdict
    deciding = {Verdict.FAILED: outcome.failed_gates, Verdict.UNDECIDED: outcome.undecided_gates}.get(
        verdict, outcome.gates
    )
    names = list(dict.fromkeys(gate.name for gate in deciding))
    parts = [", ".join(names) + on] if names else []
    if outcome.inputs_unreadable:
        parts.append(f"{counted(outcome.inputs_unreadable, 'file')} could not be read (exit code {outcome.exit_code})")
    if parts:
        style = (
            FAILED
            if verdict is Verdict.FAILED
            else PASSED
            if verdict is Verdict.PASSED and not outcome.inputs_unreadable
            else UNDECIDED
        )
        lead = f"{WORDS[verdict]}: " if names or verdict is not Verdict.PASSED else "Warning: "
        show_sentence(out, f"{lead}{'; '.join(parts)}.", style)
    for gate in outcome.undecided_gates:
        show_sentence(out, undecided_sentence(gate), UNDECIDED)


def undecided_sentence(gate: Gate) -> str:
    """Why a gate is not known, and what would decide it."""
    low, high = (amount(gate.measured if each is None else each, gate.unit) for each in (gate.low, gate.high))
    why = gate.explanation or f"the 95 % interval, {low} to {high}, covers the limit, {amount(gate.limit, gate.unit)}"
    return clean_sentence(f"{gate.name} is undecided: {why}; {gate.deciding}")
