"""The report of zygal signoff."""

from __future__ import annotations

from zygal.cli.reports.verdict import FAILED, PASSED, UNDECIDED, WORDS, result_of_gate, show_gate_rows
from zygal.cli.tables import show_sentence, show_table
from zygal.outcome import Verdict
from zygal.signoff.command import SignoffOutcome
from zygal.signoff.junit import NOTHING_REQUIRED, sentence_of
from zygal.signoff.page import causes_of
from zygal.wording import clean_sentence, counted

WIDE, MEDIUM, SHORT, SHORTEST = 140, 100, 22, 14
"""On a terminal of fewer columns the name of a gate that is longer takes two lines."""


def show(out, outcome: SignoffOutcome) -> None:
    """The table of gates, what failed and why, and where the page is."""
    if outcome.proposed is not None:
        show_sentence(
            out,
            f"Written: {outcome.request.plan}, a plan for the files in its folder. Set the limits that you need "
            f"in it, then run it.",
        )
        return
    reused = [name for name, step in outcome.steps.items() if step.reused]
    show_sentence(
        out,
        f"{outcome.title}: {outcome.artifact.path} (SHA-256 {outcome.artifact.sha256[:12]}), "
        f"{counted(len(outcome.inputs), 'input')}",
    )
    if reused:
        show_sentence(out, f"Unchanged since the last run, taken from it: {', '.join(reused)}.")
    out.print()
    show_gate_rows(
        out,
        [
            (each.gate, _in_lines(each.name, out.width), result_of_gate(each.gate, each.required))
            for each in outcome.checks
        ],
        "gate of the plan",
    )
    _show_details(out, outcome)
    if outcome.changes is not None:
        _show_changes(out, outcome)
    for sentence in outcome.not_checked:
        show_sentence(out, clean_sentence(f"Not checked: {sentence.replace(': not checked,', ',')}"), "yellow")
    _show_verdict(out, outcome)
    show_sentence(out, f"Page: {outcome.written[0]}. As data: {', '.join(outcome.written[1:])}.")


def _in_lines(name: str, width: int) -> str:
    return (
        name
        if width >= WIDE or len(name) <= (SHORT if width >= MEDIUM else SHORTEST)
        else name.replace(".", ".\n  ", 1)
    )


def _show_details(out, outcome: SignoffOutcome) -> None:
    """Each failed gate with what helps to judge it, and the causes that were found."""
    for check in outcome.checks:
        verdict = check.gate.verdict
        if check.required and verdict is not Verdict.PASSED:
            style = FAILED if verdict is Verdict.FAILED else UNDECIDED
            show_sentence(out, clean_sentence(f"{WORDS[verdict]} {check.name}: {sentence_of(check.document())}"), style)
    for sentence in causes_of({name: step.document for name, step in outcome.steps.items()}):
        show_sentence(out, sentence)


def _show_changes(out, outcome: SignoffOutcome) -> None:
    out.print()
    show_sentence(out, f"Since {outcome.request.against}:")
    if not outcome.changes:
        show_sentence(out, "nothing has changed: the same files, versions, verdicts and predictions.")
        return
    rows = [[each["what"], each["earlier"], each["now"], each["kind"]] for each in outcome.changes]
    show_table(out, ["what", "earlier", "now", "change"], rows, left=4)


def _show_verdict(out, outcome: SignoffOutcome) -> None:
    verdict = outcome.verdict
    named = dict.fromkeys(each.name for each in outcome.checks if each.required and each.gate.verdict is verdict)
    unreadable = (
        f" {counted(outcome.inputs_unreadable, 'file')} could not be read (exit code {outcome.exit_code})."
        if outcome.inputs_unreadable
        else ""
    )
    required = sum(each.required for each in outcome.checks)
    if verdict is Verdict.PASSED:
        show_sentence(out, f"PASS, signed off: {counted(required, 'gate')}.{unreadable}", PASSED)
    elif not required:
        show_sentence(out, f"UNDECIDED, not signed off. {NOTHING_REQUIRED}{unreadable}", UNDECIDED)
    else:
        show_sentence(
            out,
            f"{WORDS[verdict]}, not signed off: {', '.join(named)}.{unreadable}",
            FAILED if verdict is Verdict.FAILED else UNDECIDED,
        )
