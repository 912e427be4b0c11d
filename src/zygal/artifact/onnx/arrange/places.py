"""Values of images keep their height and width, where these were only taken together for a while."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from zygal.artifact.onnx.arrange.permuting import is_elementwise
from zygal.graph import Graph, Node
from zygal.graph.build import rebuilt
from zygal.graph.passes.dead import remove_dead
from zygal.graph.passes.rewrites import normalization_before_convolution
from zygal.graph.passes.rules import attribute


def images_keep_sides(graph: Graph) -> Graph:
    """[N, C, H W] between convolutions as [N, C, H, W], so that the runtime joins what follows a convolution with
    it."""
    writer = _Writer(graph)
    for node in graph.nodes:
        writer.add(node)
    return remove_dead(rebuilt(graph, writer.nodes, writer.constants, graph.outputs)) if writer.images else graph


class _Writer:
    """images: for values [N, C, places] the one [N, C, H, W] that holds the same, with its sides."""

    def __init__(self, graph: Graph):
        self._graph = graph
        self.nodes: list[Node] = []
        self.constants = dict(graph.constants)
        self.images: dict[str, tuple[str, tuple[int, int]]] = {}

    def add(self, node: Node) -> None:
        types, made = self._graph.types, node.outputs[0]
        if node.operator == "Reshape":
            before, after = types[node.inputs[0]].shape, types[made].shape
            if len(before) == 4 and len(after) == 3 and before[:2] == after[:2]:
                self.images[made] = node.inputs[0], before[2:]
            elif len(after) == 4 and node.inputs[0] in self.images and before[:2] == after[:2]:
                image, sides = self.images[node.inputs[0]]
                if sides == after[2:]:
                    node = replace(node, operator="Identity", inputs=(image,), attributes={})
        elif types[made].rank == 3 and (is_elementwise(node) or _over_channels(node)):
            inputs = self._as_images(node)
            if inputs is not None:
                sides = next(self.images[name][1] for name in node.inputs if name in self.images)
                self.nodes.append(replace(node, inputs=inputs, outputs=(f"{made}.image",)))
                self.images[made] = f"{made}.image", sides
                node = Node("Reshape", (f"{made}.image",), (made,), {"shape": [0, 0, sides[0] * sides[1]]}, node.layer)
        self.nodes.append(node)

    def _as_images(self, node: Node) -> tuple[str, ...] | None:
        """What the node reads as images of one size, or None if something is not."""
        found, sides = [], set()
        for name in node.inputs:
            if name in self.images:
                sides.add(self.images[name][1])
                found.append(self.images[name][0])
            elif name in self._graph.constants:
                found.append(self._constant(name))
            else:
                found.append(name if name and self._graph.types[name].rank == 0 else None)
        return tuple(found) if len(sides) == 1 and None not in found else None

    def _constant(self, name: str) -> str | None:
        """A constant of one number, or of a number for each channel, for four axes."""
        array = self._graph.constants[name]
        if array.size == 1 and array.ndim == 0:
            return name
        if array.ndim not in (2, 3) or array.shape[-1] != 1:
            return None
        self.constants[f"{name}.image"] = array[..., np.newaxis]
        return f"{name}.image"


def _over_channels(node: Node) -> bool:
    return (
        node.operator == "ReduceMean"
        and list(attribute(node, "axes") or ()) == [1]
        and bool(attribute(node, "keepdims"))
    )


def lines_into_convolutions(graph: Graph) -> Graph:
    """A factor and a shift by channel go into all the 1 x 1 convolutions that read them, if nothing else does."""
    readers, changed, added = graph.readers(), {}, {}
    for node in graph.nodes:
        made = readers.get(node.outputs[0], []) if node.operator == "BatchNormalization" else []
        if (
            not made
            or node.outputs[0] in graph.outputs
            or any(each.operator != "Conv" or each.inputs[0] != node.outputs[0] for each in made)
        ):
            continue
        constants: dict[str, np.ndarray] = {}
        folded = [normalization_before_convolution((node, each), graph.constants, constants) for each in made]
        if None not in folded:
            added.update(constants)
            changed.update({each.outputs[0]: each for each in folded})
    nodes = [changed.get(node.outputs[0], node) for node in graph.nodes]
    return remove_dead(rebuilt(graph, nodes, {**graph.constants, **added}, graph.outputs)) if changed else graph
