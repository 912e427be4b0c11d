"""The JSON result of zygal inlet recipes."""

from __future__ import annotations

from typing import Annotated, TypedDict


class InletRecipesRecipes(TypedDict):
    name: str
    does: str
    calls: Annotated[str, "the library's calls that the recipe states"]
    toml: Annotated[str, "the inlet's file"]


class InletRecipes(TypedDict):
    recipes: list[InletRecipesRecipes]
