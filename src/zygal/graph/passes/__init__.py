"""What is done to a graph before it becomes an artifact, in the order in which it is done.

A pass maps a graph to a graph that computes the same. Each is a plain function.
"""

from __future__ import annotations

from collections.abc import Callable, Container

from zygal.graph.model import Graph
from zygal.graph.passes.common import share_common
from zygal.graph.passes.constants import fold_constants
from zygal.graph.passes.dead import remove_dead
from zygal.graph.passes.identities import drop_identities
from zygal.graph.passes.normalizations import join_layer_normalizations
from zygal.graph.passes.order import constants_second
from zygal.graph.passes.rewrites import RULES
from zygal.graph.passes.rules import apply_rules
from zygal.graph.passes.stored import join_stored_borders

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
    join_stored_borders,
    drop_identities,
    remove_dead,
)


def run_passes(graph: Graph, expressed: Container[str] | None = None) -> Graph:
    """All of them. expressed: the operators that the format has; a pass that would bring in others is left out. None:
    all."""
    for each in PASSES:
        made = each(graph)
        if expressed is None or _foreign(made, expressed) <= _foreign(graph, expressed):
            graph = made
    return graph


def _foreign(graph: Graph, expressed: Container[str]) -> set[str]:
    return {node.operator for node in graph.nodes if node.operator not in expressed}
