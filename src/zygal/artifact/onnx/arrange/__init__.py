"""A finished graph in the form in which the runtime computes it fastest. What it computes stays the same.

The passes of `graph.passes` make a graph smaller, whatever runs it. These know how this format's runtime works: what it
joins, what it turns around, and what each of two forms costs there. benchmarks/passes.py measures what each of them
brings.
"""

from __future__ import annotations

from zygal.artifact.formats import Writing
from zygal.artifact.onnx.arrange.attention import attention_by_heads
from zygal.artifact.onnx.arrange.biases import biases_into_products
from zygal.artifact.onnx.arrange.channels import Channels
from zygal.artifact.onnx.arrange.meeting import orders_meet, slow_transposes_split, softmax_along_last
from zygal.artifact.onnx.arrange.orders import arranged
from zygal.artifact.onnx.arrange.places import images_keep_sides, lines_into_convolutions
from zygal.artifact.onnx.spelling import operators_of, spelling_of
from zygal.graph import Graph
from zygal.graph.passes import run_passes


def channel_orders(graph: Graph) -> Graph:
    """Each value with its channels where least is spent on moving them."""
    return arranged(graph, Channels)


def attention_as_one(graph: Graph) -> Graph:
    """Attention by the standard's own operator, which newer opsets have."""
    return attention_by_heads(graph, as_one=True)


ARRANGEMENTS = (
    softmax_along_last,
    orders_meet,
    channel_orders,
    orders_meet,
    images_keep_sides,
    attention_by_heads,
    orders_meet,
)
"""In this order; the usual passes follow over what they leave, and then LAST."""
LAST = (lines_into_convolutions, biases_into_products, slow_transposes_split)


def arrange(graph: Graph, writing: Writing) -> Graph:
    """All of them, and the usual passes over what they leave."""
    if spelling_of("Attention").since <= writing.opset:
        graph = attention_as_one(graph)
    for each in ARRANGEMENTS:
        graph = each(graph)
    graph = run_passes(graph, operators_of(writing))
    for each in LAST:
        graph = each(graph)
    return graph
