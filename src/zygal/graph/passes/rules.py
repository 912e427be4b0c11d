"""Rewrites stated as rules: a chain of operators, and what replaces it.

A chain matches where each node's result is the first input of the next and nothing else reads it.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace

import numpy as np

from zygal.graph.build import rebuilt
from zygal.graph.model import Graph, Node
from zygal.graph.ops import operator_named

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


def fold_normalization(chain: tuple[Node, ...], constants: Mapping[str, np.ndarray], added: Constants) -> Node | None:
    """Convolution, then batch normalisation: one convolution.

    (W x + b - mean) * f + shift = (f W) x + (b - mean) * f + shift, with f = scale / sqrt(variance +
    epsilon). Computed in float64 and rounded once.
    """
    convolution, normalization = chain
    parameters = (*convolution.inputs[1:], *normalization.inputs[1:])
    if any(name and name not in constants for name in parameters):
        return None
    weight = constants[convolution.inputs[1]]
    scale, shift, mean, variance = (constants[name].astype(np.float64) for name in normalization.inputs[1:])
    bias = constants[convolution.inputs[2]] if len(convolution.inputs) > 2 and convolution.inputs[2] else 0.0
    epsilon = operator_named("BatchNormalization").complete(normalization.attributes)["epsilon"]
    factor = scale / np.sqrt(variance + epsilon)
    made = normalization.outputs[0]
    new_weight, new_bias = f"{made}.weight", f"{made}.bias"
    added[new_weight] = (weight * factor.reshape(-1, *(1,) * (weight.ndim - 1))).astype(weight.dtype)
    added[new_bias] = ((bias - mean) * factor + shift).astype(weight.dtype)
    return replace(convolution, inputs=(convolution.inputs[0], new_weight, new_bias), outputs=normalization.outputs)


RULES: tuple[Rule, ...] = (Rule(("Conv", "BatchNormalization"), fold_normalization),)


def apply_rules(graph: Graph, rules: tuple[Rule, ...]) -> Graph:
    """Applies each rule wherever it matches, in order, until none fits any more."""
    changed = True
    while changed:
        changed = False
        for rule in rules:
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
        if result is not None:
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
