"""The JSON result of zygal inlet recipes."""

from __future__ import annotations

from typing import Annotated, Literal, TypedDict


class InletRecipesRecipes(TypedDict):
    name: str
    does: str
    calls: Annotated[str, "the library's calls that the recipe states"]
    toml: Annotated[str, "the inlet's file"]


class InletRecipesConfiguration(TypedDict):
    file: str
    name: Annotated[str, "what computes it in the library"]
    library: str
    computed_on: Literal["pictures", "tensors"]
    other_way: Annotated[bool, "whether the library computes on the other one too, whose values can differ"]
    toml: Annotated[str, "the inlet's file"]


class InletRecipes(TypedDict):
    recipes: list[InletRecipesRecipes]
    configuration: Annotated[InletRecipesConfiguration | None, "what --from names"]
