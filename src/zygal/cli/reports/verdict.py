"""The gates and the last line of a report, the same for every command."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from zygal.cli.tables import show_sentence, show_table
from zygal.outcome import Gate, Outcome
from zygal.wording import RELEASE, amount, counted

PASSED, FAILED = "bold green", "bold red"


def show_gates(out, gates: Sequence[Gate]) -> None:
    """A table of gates."""
    show_gate_rows(out, [(gate, gate.name, result_of_gate(gate)) for gate in gates])


def result_of_gate(gate: Gate, required: bool = True):
    """PASS or FAIL in colour; of a gate that is not required, whether it would."""
    from rich.text import Text

    if not required:
        return Text("reported", style="yellow" if not gate.passes else "")
    return Text("PASS", style="green") if gate.passes else Text("FAIL", style=FAILED)


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
    """PASS or FAIL with the gates' names, and how many inputs could not be read. on: what was examined."""
    failed = list(dict.fromkeys(gate.name for gate in outcome.failed_gates))
    names = failed or list(dict.fromkeys(gate.name for gate in outcome.gates))
    parts = [", ".join(names) + on] if names else []
    if outcome.inputs_unreadable:
        parts.append(f"{counted(outcome.inputs_unreadable, 'file')} could not be read (exit code {outcome.exit_code})")
    if parts:
        style = FAILED if failed else PASSED if not outcome.inputs_unreadable else "bold yellow"
        lead = "FAIL: " if failed else "PASS: " if names else "Warning: "
        show_sentence(out, f"{lead}{'; '.join(parts)}.", style)

