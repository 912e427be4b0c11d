"""All spellings of the graph's operators in the mobile format."""

from __future__ import annotations

from zygal.artifact.formats import Writing
from zygal.artifact.mobile import (  # noqa: F401  (each enters its spellings into the table)
    table_convolution,
    table_elementwise,
    table_picking,
    table_pooling,
    table_products,
    table_quantized,
    table_shaping,
)
from zygal.artifact.mobile.site import SPELLINGS


def operators_of(writing: Writing) -> frozenset[str]:  # noqa: ARG001
    """The graph's operators that the format has, taken apart where need be."""
    return frozenset(SPELLINGS)
