"""zygal inlet recipes: lists the inlets of common recipes, shows one, or writes it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, ClassVar

from zygal.errors import InletError
from zygal.files import kinds
from zygal.files.outputs import Output, check_outputs
from zygal.listener import SILENT, Listener
from zygal.naming import command_line
from zygal.outcome import Outcome
from zygal.request import Request, option, paths_read

if TYPE_CHECKING:
    from zygal.inlet.recipes import Recipe


@dataclass(frozen=True, kw_only=True)
class RecipesRequest(Request):
    """What zygal inlet recipes is asked for."""

    name: str | None = option("the recipe; without it all are listed", None, positional=True, nargs="?", metavar="NAME")
    output: str | None = option(
        "the inlet to write (TOML); without it the recipe is printed", None, short="o", metavar="FILE", writes=True
    )

    def outputs(self) -> list[Output]:
        """The files that are written."""
        return [Output(self.output, kinds.INLET)] if self.output else []


@dataclass(frozen=True, kw_only=True)
class RecipesOutcome(Outcome):
    """The recipes, or the one that was named."""

    kind: ClassVar[str] = "zygal.inlet-recipes"

    request: RecipesRequest
    recipes: tuple[Recipe, ...]

    def result(self) -> dict[str, Any]:
        """See `Outcome.result`."""
        return {
            "recipes": [
                {"name": each.name, "does": each.does, "calls": each.calls, "toml": each.text} for each in self.recipes
            ]
        }


def execute(request: RecipesRequest, listener: Listener = SILENT) -> RecipesOutcome:  # noqa: ARG001
    """The recipes, or the one that is named, written if asked. Raises ZygalError."""
    from zygal.files.writing import write_text
    from zygal.inlet.recipes import all_recipes, recipe_named

    check_outputs(request.outputs(), request.overwrite, paths_read(request))
    if request.output and request.name is None:
        raise InletError("-o needs the name of a recipe; zygal inlet recipes lists them.")
    recipes = tuple(all_recipes()) if request.name is None else (recipe_named(request.name),)
    if request.output:
        write_text(request.output, recipes[0].text)
    return RecipesOutcome(
        request=request,
        recipes=recipes,
        written=(request.output,) if request.output else (),
        next_step=command_line("zygal", "inlet", "draw", "IMAGE", "--inlet", request.output, "-o", "strip.png")
        if request.output
        else None,
    )
