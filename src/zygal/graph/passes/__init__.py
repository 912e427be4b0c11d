"""What is done to a graph before it becomes an artifact, in the order in which it is done.

A pass maps a graph to a graph that computes the same. Each is a plain function.
"""

from __future__ import annotations

from collections.abc import Callable

from zygal.graph.model import Graph
from zygal.graph.passes.common import share_common
from zygal.graph.passes.constants import fold_constants
from zygal.graph.passes.dead import remove_dead
from zygal.graph.passes.identities import drop_identities
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
    rewrite_patterns,
    drop_identities,
    remove_dead,
)


def run_passes(graph: Graph) -> Graph:
    for each in PASSES:
        graph = each(graph)
    return graph
