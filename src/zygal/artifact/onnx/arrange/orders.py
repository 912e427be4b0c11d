"""Chooses for every value of a graph in which of two orders its axes lie, so that the least time goes into changing
orders.

Each family of orders says which values have two of them, which nodes can work in either and what they cost in each. The
choice for the whole graph is a minimum cut: an operator's own cost by order, and for each value, once, the cost of a
transpose where not all that make and read it agree.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Mapping

from zygal.artifact.onnx.arrange.costs import AXIS_MOVED, elements
from zygal.artifact.onnx.arrange.cut import LEFT, RIGHT, Cut
from zygal.artifact.onnx.arrange.permuting import is_elementwise, keeps_order, removed_axes, transposed, turned_constant
from zygal.graph import Graph, GraphBuilder, Node
from zygal.graph.passes.dead import remove_dead
from zygal.graph.passes.rules import attribute

RELUCTANCE = 20_000
"""Added, in the unit of `costs`, where a node leaves the order that it has: 2 microseconds, so that nothing moves for
nothing."""


class Family(ABC):
    """Two orders of axes, 0 and 1. homes: the order that each value has now, for values that can have both."""

    layouts: Mapping[str, int]

    def __init__(self, graph: Graph):
        self.graph = graph

    @abstractmethod
    def order(self, rank: int, towards: int) -> tuple[int, ...]:
        """The permutation that takes a tensor to the order `towards` from the other one."""

    @abstractmethod
    def flexible(self, node: Node) -> bool:
        """Whether a node can work in both orders."""

    @abstractmethod
    def costs(self, node: Node) -> tuple[int, int]:
        """What a flexible node costs in each order beyond what it costs in both."""

    def absorbs(self, node: Node) -> bool:
        """Whether a node, a transpose, takes its value in either order and gives it in either, whatever the first
        was."""
        return False

    def absorbed_costs(self, node: Node) -> tuple[tuple[int, int], int]:
        """What such a node costs by the order that it gives, and what is added where that is not the one that it
        takes."""
        return (0, 0), 0

    def emit(self, node: Node, label: int, arranger: Arranger) -> None:
        """Adds a flexible node as it is in the order `label`."""
        arranger.turn(node, label)

    def is_change(self, node: Node) -> bool:
        """Whether a node does nothing but to take its value from one order to the other."""
        if node.operator != "Transpose" or node.inputs[0] not in self.layouts or node.outputs[0] not in self.layouts:
            return False
        towards = self.layouts[node.outputs[0]]
        return towards != self.layouts[node.inputs[0]] and tuple(attribute(node, "perm")) == self.order(
            len(attribute(node, "perm")), towards
        )


class Arranger:
    """A graph being written anew, with what each value is called in each order."""

    def __init__(self, family: Family):
        self.family, self.graph, self.builder = family, family.graph, GraphBuilder()
        for name in self.graph.inputs:
            self.builder.input(name, self.graph.types[name])
        for name, array in self.graph.constants.items():
            self.builder.constant(name, array)
        self._same: dict[str, str] = {}  # A value to the one of which it is another order.
        self._stored: dict[str, tuple[str, int]] = {}
        self._made: dict[tuple[str, int], str] = {}

    def fetch(self, name: str, label: int) -> str:
        """The name of a value in an order, transposed where it is not there yet."""
        first = self._same.get(name, name)
        stored, has = self.stored(name)
        if has == label:
            return stored
        if (first, label) not in self._made:
            order = self.family.order(self.graph.types[first].rank, label)
            self._made[first, label] = self.add(
                Node("Transpose", (stored,), (f"{first}.turned",), {"perm": list(order)}, self._layer(stored))
            )
        return self._made[first, label]

    def stored(self, name: str) -> tuple[str, int]:
        """What a value is called, and in which order it is."""
        first = self._same.get(name, name)
        return self._stored.get(first, (first, self.family.layouts[first]))

    def add(self, node: Node) -> str:
        """Adds a node; what it makes gets the first name that is free."""
        made = tuple(self._free(name) for name in node.outputs)
        self.builder.append(Node(node.operator, node.inputs, made, node.attributes, node.layer))
        return made[0]

    def step(self, of: Node, operator: str, *inputs: str, **attributes) -> str:
        """One more operator in the place of a node."""
        return self.add(Node(operator, inputs, (f"{of.outputs[0]}.{operator.lower()}",), attributes, of.layer))

    def store(self, name: str, made: str, label: int) -> None:
        """Says what a value is called now, in the order in which it is made."""
        self._stored[name] = made, label

    def turn(self, node: Node, label: int) -> None:
        """Adds a node that does not care for the order."""
        family, name = self.family, node.outputs[0]
        moving = [each for each in node.inputs if each in family.layouts]
        layout, rank = family.layouts[moving[0]], self.graph.types[moving[0]].rank
        if layout != label:
            order = family.order(rank, label)
            node = transposed(node, order, rank)
            if is_elementwise(node):
                node = node.reading(
                    {each: self._turned_constant(each, order) for each in node.inputs if each in self.graph.constants}
                )
        fetched = {each: self.fetch(each, label) for each in moving}
        made = self.add(node.reading(fetched))
        if name in family.layouts:
            self.store(name, made, label)
        else:
            self._stored[name] = made, 0

    def _turned_constant(self, name: str, order) -> str:
        array = turned_constant(self.graph.constants[name], order)
        return name if array is self.graph.constants[name] else self.builder.constant(f"{name}.turned", array)

    def keep(self, node: Node) -> None:
        """Adds a node as it was."""
        given = {}
        for name in node.inputs:
            if name in self.family.layouts:
                given[name] = self.fetch(name, self.family.layouts[name])
            elif name in self._stored:
                given[name] = self._stored[name][0]
        made = [self._free(name) for name in node.outputs]
        self.builder.append(Node(node.operator, node.reading(given).inputs, tuple(made), node.attributes, node.layer))
        for name, new in zip(node.outputs, made):
            self._stored[name] = new, self.family.layouts.get(name, 0)

    def alias(self, node: Node) -> None:
        """Lets a node's result be its first input."""
        first = node.inputs[0]
        self._same[node.outputs[0]] = self._same.get(first, first)

    def result(self, name: str) -> str:
        """See `Outcome.result`."""
        return (
            self.fetch(name, self.family.layouts[name])
            if name in self.family.layouts
            else self._stored.get(name, (name, 0))[0]
        )

    def _free(self, name: str) -> str:
        return self.builder.free_name(name)

    def _layer(self, name: str) -> str:
        made = self.builder.maker(name)
        return made.layer if made is not None else ""


def arranged(graph: Graph, make_family: Callable[[Graph], Family]) -> Graph:
    """The graph with its values in the orders that cost least."""
    family = make_family(graph)
    if not family.layouts:
        return graph
    changes = {node.outputs[0] for node in graph.nodes if family.is_change(node)}
    labels = _labels(family, changes)
    if (
        all(labels[node.outputs[0]] == _home(family, node) for node in graph.nodes if node.outputs[0] in labels)
        and not changes
    ):
        return graph
    arranger = Arranger(family)
    for node in graph.nodes:
        name = node.outputs[0]
        if name in changes:
            arranger.alias(node)
        elif name in labels:
            family.emit(node, labels[name], arranger)
        else:
            arranger.keep(node)
    outputs = [arranger.result(name) for name in graph.outputs]
    return remove_dead(arranger.builder.finish(outputs))


def _home(family: Family, node: Node) -> int:
    """The order in which a flexible node works now."""
    return next(family.layouts[name] for name in (*node.inputs, *node.outputs) if name in family.layouts)


def _labels(family: Family, changes: set[str]) -> dict[str, int]:
    """The order for each flexible node, by what it makes."""
    graph, cut, items = family.graph, Cut(), {}
    absorbing = {node.outputs[0] for node in graph.nodes if node.outputs[0] not in changes and family.absorbs(node)}
    for node in graph.nodes:
        if node.outputs[0] in absorbing:
            items[node.outputs[0]] = cut.item()
            cut.prefer(items[node.outputs[0]], family.absorbed_costs(node)[0])
        elif node.outputs[0] not in changes and family.flexible(node):
            items[node.outputs[0]] = cut.item()
            costs = list(family.costs(node))
            costs[1 - _home(family, node)] += RELUCTANCE
            cut.prefer(items[node.outputs[0]], tuple(costs))
    together: dict[str, list[int]] = {name: [] for name in family.layouts}
    same: dict[str, str] = {}
    fixed = (LEFT, RIGHT)
    for node in graph.nodes:
        name = node.outputs[0]
        if name in changes:
            same[name] = same.get(node.inputs[0], node.inputs[0])
            continue
        if name in absorbing:
            given = same.get(node.inputs[0], node.inputs[0])
            source = together[given][0] if together[given] else fixed[family.layouts[given]]
            cut.together([source, items[name]], family.absorbed_costs(node)[1])
        for each in node.outputs if name in absorbing else (*node.inputs, *node.outputs):
            if each in family.layouts:
                together[same.get(each, each)].append(items.get(name, fixed[family.layouts[each]]))
    for name in (*graph.inputs, *graph.outputs):
        if name in family.layouts:
            together[same.get(name, name)].append(fixed[family.layouts[name]])
    for name, members in together.items():
        cut.together(members, AXIS_MOVED * elements(graph, name))
    found = cut.labels()
    return {name: found[item] for name, item in items.items()}


def stays_ordered(node: Node, family: Family) -> bool:
    """Whether what a node makes without some of its input's axes is the same in both orders."""
    name = next(each for each in node.inputs if each in family.layouts)
    rank = family.graph.types[name].rank
    removed = removed_axes(node, rank, family.graph)
    return not removed or keeps_order(family.order(rank, 1 - family.layouts[name]), removed)
