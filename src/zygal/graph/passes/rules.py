"""Applies rewrites that are stated as rules: a chain of operators, and what replaces it.

A chain matches where each node's result is the first input of the next and nothing else reads it.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from zygal.errors import GraphError
from zygal.graph.build import rebuilt, result_types
from zygal.graph.model import Graph, Node
from zygal.graph.ops import operator_named
from zygal.graph.shapes import TensorType

Constants = dict[str, np.ndarray]
Rewrite = Callable[[tuple[Node, ...], Mapping[str, np.ndarray], Constants], Node | None]


@dataclass(frozen=True)
class Rule:
    """`rewrite(chain, constants, added)` gives the node that replaces the chain, or None.

    It puts the constants that the new node needs into `added`. The new node makes what the chain's
    last node made.
    """

    chain: tuple[str, ...]
    rewrite: Rewrite


def attribute(node: Node, name: str) -> Any:
    """An attribute of a node, its operator's default filled in."""
    return operator_named(node.operator).complete(node.attributes)[name]


def apply_rules(graph: Graph, rules: tuple[Rule, ...]) -> Graph:
    """Applies each rule wherever it matches, in order, until none fits any more."""
    changed = True
    while changed:
        changed, operators = False, {node.operator for node in graph.nodes}
        for rule in rules:
            if not operators.issuperset(rule.chain):
                continue
            graph, times = _apply_rule(graph, rule)
            changed = changed or times > 0
    return graph


def _apply_rule(graph: Graph, rule: Rule) -> tuple[Graph, int]:
    uses, made_by = graph.uses(), graph.producers()
    added: Constants = {}
    replaced: dict[str, Node] = {}
    gone: set[str] = set()
    for node in graph.nodes:
        chain = _chain_ending_at(node, rule.chain, made_by, uses)
        if not chain or any(link.outputs[0] in gone for link in chain):
            continue
        result = rule.rewrite(chain, graph.constants, added)
        if result is not None and _keeps_types(result, graph, added):
            gone.update(link.outputs[0] for link in chain)
            replaced[node.outputs[0]] = result
    if not replaced:
        return graph, 0
    nodes = [
        replaced.get(node.outputs[0], node)
        for node in graph.nodes
        if node.outputs[0] in replaced or node.outputs[0] not in gone
    ]
    return rebuilt(graph, nodes, {**graph.constants, **added}, graph.outputs), len(replaced)


def _keeps_types(node: Node, graph: Graph, added: Constants) -> bool:
    """Whether what replaces a chain makes values of the same dtypes and shapes, which everything behind it relies
    on."""
    new = {name: TensorType(added[name].dtype, added[name].shape) for name in node.inputs if name in added}
    try:
        made = result_types(node, {**{name: graph.types[name] for name in node.inputs if name in graph.types}, **new})
    except GraphError:
        return False
    return made == [graph.types[name] for name in node.outputs]


def _chain_ending_at(node: Node, operators: tuple[str, ...], made_by, uses) -> tuple[Node, ...] | None:
    """The nodes of a matching chain, first to last."""
    if node.operator != operators[-1]:
        return None
    chain = [node]
    for operator in reversed(operators[:-1]):
        source = chain[0].inputs[0]
        before = made_by.get(source)
        if before is None or before.operator != operator or uses[source] != 1:
            return None
        chain.insert(0, before)
    return tuple(chain)
