"""The gates and the last line of a report, the same for every command."""

from __future__ import annotations

from collections.abc import Sequence

from zygal.cli.tables import show_sentence, show_table
from zygal.outcome import Gate, Outcome
from zygal.wording import counted, percent, short_number

PASSED, FAILED = "bold green", "bold red"


def show_gates(out, gates: Sequence[Gate]) -> None:
    """A table of gates."""
    from rich.text import Text

    rows = []
    for gate in gates:
        measured = "-" if gate.measured is None else _amount(gate, gate.measured)
        condition = gate.condition + (f" ({gate.explanation or 'not measured'})" if gate.measured is None else "")
        result = Text("PASS", style="green") if gate.passes else Text("FAIL", style=FAILED)
        limit = f"{'>=' if gate.at_least else '<='} {_amount(gate, gate.limit)}"
        rows.append([gate.name, condition, result, measured, limit, "" if gate.unit == "share" else gate.unit])
    show_table(out, ["gate", "condition", "result", "measured", "limit", "unit"], rows, left=3)


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


def _amount(gate: Gate, value: float) -> str:
    return percent(value) if gate.unit == "share" else short_number(value)
