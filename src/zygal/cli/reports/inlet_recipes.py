"""The report of zygal inlet recipes."""

from __future__ import annotations

from zygal.cli.tables import show_facts
from zygal.commands.recipes import RecipesOutcome


def show(out, outcome: RecipesOutcome) -> None:
    """The list, or one recipe as its file has it."""
    request = outcome.request
    if request.output:
        what = outcome.configured.said if outcome.configured else outcome.recipes[0].does
        out.print(f"{request.output} written: {what}.", highlight=False, markup=False, soft_wrap=True)
    elif request.name or outcome.configured:
        out.print(outcome.text.rstrip(), highlight=False, markup=False, soft_wrap=True)
    else:
        show_facts(
            out, "Inlets of common recipes", [(each.name, f"{each.does}: {each.calls}") for each in outcome.recipes]
        )
        out.print()
        out.print("zygal inlet recipes NAME -o FILE writes one.", highlight=False, markup=False)
