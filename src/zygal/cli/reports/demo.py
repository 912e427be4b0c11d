"""The end of zygal demo."""

from __future__ import annotations

from pathlib import Path

from zygal.cli.reports.verdict import show_verdict
from zygal.cli.tables import show_sentence
from zygal.commands.demo import DemoOutcome


def show(out, outcome: DemoOutcome) -> None:
    """Which commands ended unexpectedly, and how to continue with a model of one's own."""
    for step in outcome.steps:
        if step.exit_code != step.expected_exit_code:
            show_sentence(
                out, f"{' '.join(step.command)}: exit code {step.exit_code}, expected {step.expected_exit_code}."
            )
    show_verdict(
        out, outcome, f": all {len(outcome.steps)} commands ended as expected" if not outcome.failed_gates else ""
    )
    inlet = Path(outcome.folder) / "channel_marks.inlet.toml"
    show_sentence(
        out,
        f"With your own model: survey it, write its inlet (start from {inlet}), convert it, record a witness where "
        "its framework is installed, and match.",
    )
