"""What each node of a graph takes: parameters and multiply-adds for one image."""

from __future__ import annotations

from zygal.graph import Batch, Graph, Node
from zygal.graph.arithmetic import COUNTS


def sizes_of(graph: Graph, name: str) -> tuple[int, ...]:
    """The shape of a value for a batch of one; sizes that only a run knows count as 1."""
    return tuple(
        each if isinstance(each, int) else each.times if isinstance(each, Batch) else 1
        for each in graph.types[name].shape
    )


def parameters_by_node(graph: Graph) -> list[int]:
    """Of each node the floating-point and few-bit constants that it is the first to read; small integers, such as
    shapes, are none."""
    seen: set[str] = set()
    counts = []
    for node in graph.nodes:
        names = [name for name in _read(node) if name in graph.constants and name not in seen]
        seen.update(names)
        counts.append(sum(graph.constants[name].size for name in names if _is_parameter(graph, name)))
    return counts


def constants_read(graph: Graph, node: Node) -> int:
    """How many parameters a node reads, whoever else reads them too."""
    return sum(
        graph.constants[name].size for name in _read(node) if name in graph.constants and _is_parameter(graph, name)
    )


def _read(node: Node) -> list[str]:
    """The inputs of a node; of a stored tensor without its steps, which are not the model's."""
    stored = node.operator in ("QuantizeLinear", "DequantizeLinear")
    return list(dict.fromkeys(node.inputs[:1] if stored else node.inputs))


def _is_parameter(graph: Graph, name: str) -> bool:
    """Single numbers belong to formulas, such as the half in a GELU."""
    array = graph.constants[name]
    return array.size > 1 and (array.dtype.kind == "f" or array.dtype.itemsize == 1 and array.dtype.kind in "iu")


def multiply_adds(graph: Graph, node: Node) -> int:
    """For one image, by the rules of `graph.arithmetic`; none where they do not know."""
    count = COUNTS.get(node.operator)
    if count is None:
        return 0
    left, right = (sizes_of(graph, name) for name in node.inputs[:2])
    try:
        return count(node.attributes, left, right, sizes_of(graph, node.outputs[0]))
    except (KeyError, IndexError):
        return 0
