"""A graph to a mobile model, node by node through the table of spellings."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from zygal.artifact.mobile.site import SPELLINGS, Site, Unspeakable
from zygal.artifact.mobile.views import View, natural
from zygal.errors import ArtifactError, GraphError, some_of
from zygal.graph import Batch, Dimension, Graph, GraphBuilder, Node, TensorType
from zygal.graph.build import free_name
from zygal.graph.shapes import at_batch
from zygal.mobile.model import MobileModel, Operator, Quantization, Signature, Tensor

STORED = {np.dtype("int64"): np.dtype("int32")}
"""Whole numbers are sizes and places; the format's operators take them with 32 bits."""
COMPUTED = ("float32", "int32", "bool", "int8", "uint8")


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
        except Unspeakable as fault:
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


class Lowering:
    """What is made of a graph so far. shapes: of the tensors, sizes as they lie, the batch being open."""

    def __init__(self, graph: Graph):
        self.graph, self.missing = graph, set()
        self.tensors: list[Tensor] = []
        self.operators: list[Operator] = []
        self.shapes: list[tuple[Dimension, ...]] = []
        self.values: dict[str, View] = {}
        self._readers = graph.readers()
        self.stored: dict[int, int] = {}
        self._turned: dict[tuple, int] = {}
        self._constants: dict[tuple, int] = {}
        self._names: set[str] = set()
        for name in graph.inputs:
            type = graph.types[name]
            self.values[name] = View(natural(type.rank), self.tensor(type.shape, type.dtype, name))
        self.inputs = [self.values[name].tensor for name in graph.inputs]

    def readers(self, name: str) -> list[Node]:
        return self._readers.get(name, [])

    def view(self, name: str) -> View:
        """A value by its name in the graph."""
        if name not in self.values and name in self.graph.constants:
            array = self.graph.constants[name]
            self.values[name] = View(natural(array.ndim), array=array)
        return self.values[name]

    def tensor(self, shape: Sequence[Dimension], dtype: np.dtype, name: str) -> int:
        """A tensor that an operator makes."""
        dtype = STORED.get(np.dtype(dtype), np.dtype(dtype))
        if dtype.name not in COMPUTED:
            raise Unspeakable(f"computes in {dtype.name}")
        sizes = tuple(size.times if isinstance(size, Batch) else int(size) for size in shape)
        opened = tuple(axis for axis, size in enumerate(shape) if isinstance(size, Batch))
        self.tensors.append(Tensor(self._free(name), sizes, dtype.name, opened))
        self.shapes.append(tuple(shape))
        return len(self.tensors) - 1

    def constant(self, array: np.ndarray, name: str) -> int:
        """A tensor that holds numbers; small equal ones are shared."""
        wide = STORED.get(array.dtype, array.dtype)
        if wide != array.dtype:
            limits = np.iinfo(wide)
            if array.size and (array.min() < limits.min or array.max() > limits.max):
                raise Unspeakable("has whole numbers of more than 32 bits")
            array = array.astype(wide)
        if array.dtype.name not in COMPUTED:
            raise Unspeakable(f"has a constant of {array.dtype}")
        key = (array.dtype.str, array.shape, array.tobytes()) if array.nbytes <= 4096 else (id(array),)
        if key not in self._constants:
            self.tensors.append(Tensor(self._free(name), tuple(array.shape), array.dtype.name, data=array))
            self.shapes.append(tuple(array.shape))
            self._constants[key] = len(self.tensors) - 1
        return self._constants[key]

    def remember(self, real: int, numbers: np.ndarray, steps: Quantization) -> None:
        """Adds the stored form of a constant; `fusing` takes it where it can, and widens it where it cannot."""
        name = self._free(f"{self.tensors[real].name}.stored")
        self.tensors.append(Tensor(name, tuple(numbers.shape), numbers.dtype.name, data=numbers, quantization=steps))
        self.shapes.append(tuple(numbers.shape))
        self.stored[real] = len(self.tensors) - 1

    def _free(self, wanted: str) -> str:
        name = free_name(wanted, self._names)
        self._names.add(name)
        return name

    def add(self, node: Node) -> None:
        spelling = SPELLINGS.get(node.operator)
        if spelling is None:
            raise Unspeakable("is no operator of the format")
        before, made = len(self.tensors), spelling(Site(self, node))
        for name, view in zip(node.outputs, made if isinstance(made, list) else [made]):
            self.values[name] = view
            if view.array is None and view.tensor >= before:
                # The value keeps its name, whatever it took to make it.
                self.tensors[view.tensor].name = self._free(name)

    def turned(self, view: View, order: tuple[int, ...], site: Site) -> int:
        """The tensor of a view in another order of axes, made once."""
        key = (view.tensor, view.order, order)
        if key not in self._turned:
            shape = dict(zip(view.order, self.shapes[view.tensor]))
            sizes, dtype = [shape[axis] for axis in order], np.dtype(self.tensors[view.tensor].dtype)
            if site.moves(view, order):
                turns = site.numbers([view.order.index(axis) for axis in order])
                made = site.step("TRANSPOSE", [view.tensor, turns], sizes, dtype)
            else:
                made = site.reshape_tensor(view.tensor, sizes)
            self._turned[key] = made
        return self._turned[key]

    def finished(self) -> MobileModel:
        outputs = []
        for name in self.graph.outputs:
            view, node = self.view(name), Node("Output", (name,), (name,))
            outputs.append(Site(self, node).plain(view))
        model = MobileModel(self.tensors, self.operators, self.inputs, outputs, stored=self.stored)
        names = [
            dict(zip(names, numbers))
            for names, numbers in ((self.graph.inputs, self.inputs), (self.graph.outputs, outputs))
        ]
        model.signatures.append(Signature("serving_default", *names))
        return model
