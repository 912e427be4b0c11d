"""What is done to a graph before it becomes an artifact, in the order in which it is done.

A pass maps a graph to a graph that computes the same. Each is a plain function.
"""

from __future__ import annotations

from collections.abc import Callable

from zygal.graph.model import Graph
from zygal.graph.ops import operator_named
from zygal.graph.passes.common import share_common
from zygal.graph.passes.constants import fold_constants
from zygal.graph.passes.dead import remove_dead
from zygal.graph.passes.identities import drop_identities
from zygal.graph.passes.normalizations import join_layer_normalizations
from zygal.graph.passes.order import constants_second
from zygal.graph.passes.rewrites import RULES
from zygal.graph.passes.rules import apply_rules

Pass = Callable[[Graph], Graph]


def rewrite_patterns(graph: Graph) -> Graph:
    """Applies the rewrite rules, in their listed order, until none fits any more."""
    return apply_rules(graph, RULES)


PASSES: tuple[Pass, ...] = (
    remove_dead,
    drop_identities,
    fold_constants,
    constants_second,
    share_common,
    join_layer_normalizations,
    remove_dead,
    rewrite_patterns,
    drop_identities,
    remove_dead,
)


def run_passes(graph: Graph, opset: int | None = None) -> Graph:
    """All of them. opset: a pass that would bring in operators which that opset does not have yet is left out."""
    for each in PASSES:
        made = each(graph)
        if opset is None or _newest(made) <= max(_newest(graph), opset):
            graph = made
    return graph


def _newest(graph: Graph) -> int:
    return max((operator_named(node.operator).since for node in graph.nodes), default=0)
