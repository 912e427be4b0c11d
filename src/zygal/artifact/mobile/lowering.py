"""A graph to a mobile model, node by node through the table of spellings."""

from __future__ import annotations

from dataclasses import replace

from zygal.artifact.mobile.site import Lowering, NotExpressible
from zygal.errors import ArtifactError, GraphError, some_of
from zygal.graph import Batch, Graph, GraphBuilder, TensorType
from zygal.graph.shapes import at_batch
from zygal.mobile.model import MobileModel


def lowered(graph: Graph, where: str) -> MobileModel:
    """The graph as a mobile model with a signature. Raises ArtifactError naming the layers that the format cannot
    express."""
    lowering = Lowering(graph)
    failed: dict[str, list[str]] = {}
    for node in graph.nodes:
        if any(name in lowering.missing for name in node.inputs):
            lowering.missing.update(node.outputs)
            continue
        try:
            lowering.add(node)
        except NotExpressible as fault:
            lowering.missing.update(node.outputs)
            failed.setdefault(f"{node.operator} {fault}", []).append(node.layer or node.outputs[0])
    if failed:
        listed = "; ".join(f"{what} (layer {some_of(layers)})" for what, layers in sorted(failed.items()))
        raise ArtifactError(
            f"{where} cannot be written as a mobile flatbuffer: {listed}; write it as ONNX (a name that ends in .onnx)."
        )
    return lowering.finished()


def of_one_image(graph: Graph) -> Graph | None:
    """The graph with a batch of 1; None if its batch is fixed already, or something in it needs another."""
    if not any(isinstance(size, Batch) for name in graph.inputs for size in graph.types[name].shape):
        return None
    builder = GraphBuilder()
    for name in graph.inputs:
        builder.input(name, TensorType(graph.types[name].dtype, at_batch(graph.types[name].shape, 1)))
    for name, array in graph.constants.items():
        builder.constant(name, array)
    try:
        for node in graph.nodes:
            sizes = node.attributes.get("sizes")
            builder.append(
                replace(node, attributes={**node.attributes, "sizes": at_batch(sizes, 1)}) if sizes else node
            )
    except GraphError:
        return None
    return builder.finish(graph.outputs)
