"""The report of zygal inlet draw."""

from __future__ import annotations

from zygal.cli.tables import show_facts
from zygal.commands.draw import DrawOutcome


def show(out, outcome: DrawOutcome) -> None:
    """Each stage with the size and the range of values after it."""
    rows = [
        (
            stage.name,
            f"{stage.picture.shape[1]} x {stage.picture.shape[0]} pixels, {stage.low:.4g} to {stage.high:.4g}: "
            f"{stage.does}",
        )
        for stage in outcome.stages
    ]
    show_facts(out, f"{outcome.request.image} -> {outcome.request.output}", rows)
