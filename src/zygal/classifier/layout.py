"""The two orders of an image tensor's axes: channels first (NCHW) and channels last (NHWC)."""

from __future__ import annotations

from collections.abc import Sequence

from zygal.graph import Graph, GraphBuilder, TensorType

# For each layout, where its axes lie in the other one.
FROM_OTHER = {"NCHW": (0, 3, 1, 2), "NHWC": (0, 2, 3, 1)}


def image_layout(shape: Sequence | None) -> str | None:
    """NCHW or NHWC, by which axis of [batch, ., ., .] has the size of a colour axis; None if neither or both, or the
    shape is not known."""
    if shape is None or len(shape) != 4:
        return None
    first, last = shape[1] in (1, 3, 4), shape[3] in (1, 3, 4)
    return None if first == last else "NCHW" if first else "NHWC"


def permuted(shape: Sequence, layout: str) -> tuple:
    """A shape [batch, ...] of the other layout in this one."""
    return tuple(shape[axis] for axis in FROM_OTHER[layout])


def fed_as(graph: Graph, layout: str) -> Graph:
    """The graph with its image input in a layout; turned at the entrance where that is another than it has.

    Raises ValueError if the layout that it has cannot be told from its sizes.
    """
    (name,) = graph.inputs
    given = graph.types[name]
    has = image_layout(given.shape)
    if has is None:
        raise ValueError(f"its layout cannot be inferred from {given}")
    if has == layout:
        return graph
    builder = GraphBuilder()
    fed = builder.input("fed_image", TensorType(given.dtype, permuted(given.shape, layout)))
    for constant, array in graph.constants.items():
        builder.constant(constant, array)
    builder.add("Transpose", (fed,), name, "input", perm=list(FROM_OTHER[has]))
    for node in graph.nodes:
        builder.append(node)
    return builder.finish(graph.outputs)
