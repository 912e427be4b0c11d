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
from zygal.request import Request, option, paths_read, refuse_without

if TYPE_CHECKING:
    from zygal.inlet.configured import Configured
    from zygal.inlet.recipes import Recipe


@dataclass(frozen=True, kw_only=True)
class RecipesRequest(Request):
    """What zygal inlet recipes is asked for."""

    name: str | None = option("the recipe; without it all are listed", None, positional=True, nargs="?", metavar="NAME")
    source: str | None = option(
        "read the inlet from the configuration of a public collection instead: preprocessor_config.json of "
        "transformers, or config.json of timm",
        None,
        name="from",
        metavar="FILE",
        reads=True,
    )
    way: str | None = option(
        "with --from: what the library computes on, where it has two ways (default: that of the release that wrote the "
        "file)",
        None,
        choices=("pictures", "tensors"),
        needs="source",
    )
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
    configured: Configured | None = None

    def result(self) -> dict[str, Any]:
        """See `Outcome.result`."""
        found = self.configured
        return {
            "recipes": [
                {"name": each.name, "does": each.does, "calls": each.calls, "toml": each.text} for each in self.recipes
            ],
            "configuration": found
            and {
                "file": self.request.source,
                "name": found.name,
                "library": found.library,
                "computed_on": found.way,
                "other_way": found.other_way,
                "toml": self.text,
            },
        }

    @property
    def text(self) -> str:
        """The inlet that was read from a configuration, or the one recipe that was named."""
        from zygal.inlet import format_inlet

        if self.configured is None:
            return self.recipes[0].text
        return format_inlet(self.configured.inlet, [self.configured.said])


def execute(request: RecipesRequest, listener: Listener = SILENT) -> RecipesOutcome:  # noqa: ARG001
    """The recipes, the one that is named, or the inlet of a configuration, written if asked. Raises ZygalError."""
    from zygal.files.writing import write_text
    from zygal.inlet.configured import read_configured
    from zygal.inlet.recipes import all_recipes, recipe_named

    check_outputs(request.outputs(), request.overwrite, paths_read(request))
    refuse_without(request, InletError)
    if request.source and request.name:
        raise InletError("a recipe's NAME and --from are both given; each names an inlet, so give one of them.")
    if request.output and request.name is None and request.source is None:
        raise InletError("-o needs the name of a recipe, which zygal inlet recipes lists, or --from FILE.")
    configured = read_configured(request.source, request.way) if request.source else None
    if configured is not None:
        recipes = ()
    else:
        recipes = tuple(all_recipes()) if request.name is None else (recipe_named(request.name),)
    outcome = RecipesOutcome(
        request=request,
        recipes=recipes,
        configured=configured,
        notes=configured.notes_for(request.source) if configured else (),
        written=(request.output,) if request.output else (),
        next_step=command_line("zygal", "inlet", "draw", "IMAGE", "--inlet", request.output, "-o", "strip.png")
        if request.output
        else None,
    )
    if request.output:
        write_text(request.output, outcome.text)
    return outcome
