"""What each node of a graph takes: parameters and multiply-adds for one image."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from math import prod

from zygal.graph import Batch, Graph, Node

Sizes = Sequence[int]


def sizes_of(graph: Graph, name: str) -> tuple[int, ...]:
    """The shape of a value for a batch of one; sizes that only a run knows count as 1."""
    return tuple(each if isinstance(each, int) else each.times if isinstance(each, Batch) else 1 for each in graph.types[name].shape)


def parameters_by_node(graph: Graph) -> list[int]:
    """Of each node the floating-point and few-bit constants that it is the first to read; small integers, such as shapes, are none."""
    seen: set[str] = set()
    counts = []
    for node in graph.nodes:
        names = [name for name in _read(node) if name in graph.constants and name not in seen]
        seen.update(names)
        counts.append(sum(graph.constants[name].size for name in names if _is_parameter(graph, name)))
    return counts


def constants_read(graph: Graph, node: Node) -> int:
    """How many parameters a node reads, whoever else reads them too."""
    return sum(graph.constants[name].size for name in _read(node) if name in graph.constants and _is_parameter(graph, name))


def _read(node: Node) -> list[str]:
    """The inputs of a node; of a stored tensor without its steps, which are not the model's."""
    stored = node.operator in ("QuantizeLinear", "DequantizeLinear")
    return list(dict.fromkeys(node.inputs[:1] if stored else node.inputs))


def _is_parameter(graph: Graph, name: str) -> bool:
    """Single numbers belong to formulas, such as the half in a GELU."""
    array = graph.constants[name]
    return array.size > 1 and (array.dtype.kind == "f" or array.dtype.itemsize == 1 and array.dtype.kind in "iu")


def multiply_adds(graph: Graph, node: Node) -> int:
    """For one image, of operators that are sums of products; of others none."""
    count = _COUNTS.get(node.operator)
    if count is None:
        return 0
    inputs = [sizes_of(graph, name) if name else () for name in node.inputs]
    return count(node, inputs, sizes_of(graph, node.outputs[0]))


def _convolution(node: Node, inputs: Sequence[Sizes], result: Sizes) -> int:
    return prod(result) * prod(inputs[1][1:])


def _transposed(node: Node, inputs: Sequence[Sizes], result: Sizes) -> int:
    return prod(inputs[0]) * prod(inputs[1][1:])


def _product(node: Node, inputs: Sequence[Sizes], result: Sizes) -> int:
    return prod(result) * inputs[0][-1] if inputs[0] else 0


def _general_product(node: Node, inputs: Sequence[Sizes], result: Sizes) -> int:
    return prod(result) * inputs[0][0 if node.attributes.get("transA") else -1]


def _einsum(node: Node, inputs: Sequence[Sizes], result: Sizes) -> int:
    terms = str(node.attributes["equation"]).replace(" ", "").split("->")[0].split(",")
    if len(terms) != 2 or any("." in term for term in terms):
        return 0
    return prod({letter: size for term, sizes in zip(terms, inputs) for letter, size in zip(term, sizes)}.values())


_COUNTS: dict[str, Callable[[Node, Sequence[Sizes], Sizes], int]] = {
    "Conv": _convolution, "ConvTranspose": _transposed, "Gemm": _general_product, "MatMul": _product, "Einsum": _einsum,
}  # fmt: skip
