"""A finished graph in the form in which the runtime computes it fastest. What it computes stays the same.

The passes of `graph.passes` make a graph smaller, whatever runs it. These know how this format's runtime works: what it joins, what it
turns around, and what each of two forms costs there. benchmarks/passes.py measures what each of them brings.
"""

from __future__ import annotations

from zygal.artifact.onnx.arrange.attention import attention_by_heads
from zygal.artifact.onnx.arrange.channels import Channels
from zygal.artifact.onnx.arrange.meeting import orders_meet, softmax_along_last
from zygal.artifact.onnx.arrange.orders import arranged
from zygal.artifact.onnx.arrange.tokens import Tokens
from zygal.graph import Graph
from zygal.graph.passes import PASSES


def channel_orders(graph: Graph) -> Graph:
    """Each value with its channels where least is spent on moving them."""
    return arranged(graph, Channels)


def token_orders(graph: Graph) -> Graph:
    """Each sequence with its tokens or its batch in front, likewise."""
    return arranged(graph, Tokens)


ARRANGEMENTS = (softmax_along_last, orders_meet, channel_orders, orders_meet, attention_by_heads, orders_meet, token_orders, orders_meet)


def arrange(graph: Graph) -> Graph:
    """All of them, and the usual passes over what they leave."""
    for each in (*ARRANGEMENTS, *PASSES):
        graph = each(graph)
    return graph
