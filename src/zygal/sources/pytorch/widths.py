"""Floating point of another width than float32, between layers.

A model whose weights are float16, bfloat16 or float64 as a whole is computed in float32, which is said. A model in
float32 that changes to another width somewhere means something by it: what it rounds, the artifact must round too.
"""

from __future__ import annotations

from zygal.sources.pytorch.aliases import VIEWS
from zygal.sources.pytorch.calls import Site
from zygal.sources.pytorch.program import Program

OTHER_WIDTHS = ("float16", "bfloat16", "float64")
_CASTS = frozenset(("to", "_to_copy", "type_as"))
_EXACT = frozenset((
    "relu", "neg", "abs", "sign", "maximum", "minimum", "max", "min", "amax", "amin", "where", "cat", "stack", "concat",
    "flip", "gather", "index_select", "index", "masked_fill", "clone", "zeros_like", "ones_like", "full_like", "zeros",
    "ones", "full", "pad", "constant_pad_nd", "repeat", "roll", "topk", "sort", "max_pool2d", "hardtanh", "copy",
))  # fmt: skip
"""Operators that give one of the numbers that they were given, in every width the same."""

BY_POLICY = "some layers are computed in a narrower width by a policy (autocast); the artifact computes in float32"


class Widths:
    """Follows what a program in float32 does in other widths."""

    def __init__(self, program: Program):
        self._names = program.dtype_names
        weights = {program.dtype_names.get(name) for name in program.tensors if name in program.trained}
        self._is_float32 = "float32" in weights or not weights & set(OTHER_WIDTHS)

    def as_recorded(self, site: Site, name: str, value: str) -> str:
        """The value as the framework's width leaves it. Raises SourceError where that cannot be expressed."""
        width = self._names.get(name)
        if width not in OTHER_WIDTHS or not self._is_float32 or site.array(value) is not None:
            return value
        operator = site.target.split(".")[-2].rstrip("_")
        if operator in VIEWS - _CASTS or operator in _EXACT:
            return value
        if "/" in name:  # A block of a policy.
            site.note(BY_POLICY)
            return value
        if operator in _CASTS and width == "float64":
            return value
        if operator in _CASTS and width == "float16":
            return site.step("Cast", site.step("Cast", value, to="float16"), to="float32")
        return site.refuse(
            f"computes in {width}, though the model's weights are float32; capture a model that computes in "
            f"float32 throughout"
        )
