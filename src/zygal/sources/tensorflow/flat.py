"""The part of a graph that was translated, as one graph without functions and variables: for running layers and inner
parts live."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from zygal.sources.layouts import View
from zygal.sources.tensorflow.messages import DTYPES, message
from zygal.sources.tensorflow.model import Model
from zygal.sources.tensorflow.pixels import Pixels
from zygal.sources.tensorflow.scopes import Place, Scope
from zygal.sources.tensorflow.site import Nothing
from zygal.sources.tensorflow.translate import Translator

FEED = "zygal_feed"
_NUMBERS = {name: number for number, name in DTYPES.items()}
_PASSED_ON = {"Merge": None, "RefMerge": None, "Switch": 0, "RefSwitch": 0}


@dataclass(frozen=True)
class FlatGraph:
    """content: the graph as bytes. feed: the tensor that takes images. layers: for each layer of the training code, in
    order, its last tensor and the value of the artifact that it is. output: of the tensor asked for."""

    content: bytes
    feed: str
    output: str
    layers: dict[str, tuple[str, str]]


def flat_graph(model: Model, output: str) -> FlatGraph:
    """Raises what the translation raises."""
    model.graph_of(output)
    return _Flattener(model).run(output)


class _Flattener:
    def __init__(self, model: Model):
        self._model, self._translator = model, model.translator
        self._graph = message("GraphDef")()
        self._layers: dict[str, tuple[str, str]] = {}

    def run(self, output: str) -> FlatGraph:
        feed = self._graph.node.add(name=FEED, op="Placeholder")
        feed.attr["dtype"].type = self._feed_dtype()
        feed.attr["shape"].shape.unknown_rank = True
        end = self._followed(self._model.place_of(output))
        needed = self._needed(end)
        for (scope, name), values in self._translator.done().items():
            if (scope, name) in needed:
                self._add(scope, scope.nodes[name], values)
        return FlatGraph(self._graph.SerializeToString(), f"{FEED}:0", self._tensor(end), self._layers)

    def _needed(self, end: Place | None) -> set[tuple[Scope, str]]:
        """The nodes between the feed and an output."""
        found: set[tuple[Scope, str]] = set()
        waiting = [end]
        while waiting:
            place = waiting.pop()
            if place is None or (place.scope, place.node) in found:
                continue
            found.add((place.scope, place.node))
            node = place.scope.nodes[place.node]
            if not self._holds_numbers(place.scope, node):
                waiting += [self._followed(each) for each in self._sources(place.scope, node)]
        return found

    def _sources(self, scope: Scope, node: Any) -> list[Place]:
        return [self._translator.resolved(scope, each) for each in node.input if not each.startswith("^")]

    def _holds_numbers(self, scope: Scope, node: Any) -> bool:
        """Whether a node's result becomes a constant: a variable that is read, weights beside the graph, an input that
        is known."""
        if scope is self._translator.outermost and node.name in self._translator.fed:
            return True
        if node.op == "ReadVariableOp" or node.op == "Const" and node.name in self._model.context.arrays:
            return True
        return node.op == "Identity" and self._reads_variable(scope, node)

    def _feed_dtype(self) -> int:
        taken = self._translator.entrance.taken
        if taken is None:
            return self._model.image.dtype
        return _NUMBERS[self._model.context.builder.types[self._translator.entrance.view.name].dtype.name]

    def _add(self, scope: Scope, node: Any, values: list) -> None:
        flat = _flat_name(scope, node.name)
        if self._holds_numbers(scope, node):
            dtype = (node.attr["dtype"] if "dtype" in node.attr else node.attr["T"]).type
            self._constant(flat, self._model.context.builder.constants[values[0].name], dtype % 100)
            return
        made = self._graph.node.add()
        made.CopyFrom(node)
        made.name = flat
        if "_class" in made.attr:
            del made.attr["_class"]
        del made.input[:]
        made.input.extend(self._tensor(self._followed(each)) for each in self._sources(scope, node))
        if node.op != "Identity" and self._is_layer_output(values[0]):
            layer = node.name.rpartition("/")[0] or node.name
            self._layers.pop(layer, None)
            self._layers[layer] = f"{flat}:0", values[0].name

    def _is_layer_output(self, value: Any) -> bool:
        """Whether a value is what a layer makes of the image, in floating point."""
        builder = self._model.context.builder
        return (
            isinstance(value, View)
            and value.name not in builder.constants
            and builder.types[value.name].dtype.kind == "f"
        )

    def _reads_variable(self, scope: Scope, node: Any) -> bool:
        source = self._translator.resolved(scope, node.input[0])
        return source.value is None and source.scope.nodes[source.node].op in ("VariableV2", "Variable")

    def _constant(self, name: str, array: np.ndarray, dtype: int) -> None:
        made = self._graph.node.add(name=name, op="Const")
        stored = DTYPES.get(dtype, "float32")
        if stored == "bfloat16":
            content = (np.ascontiguousarray(array, np.float32).view(np.uint32) >> 16).astype(np.uint16)
        else:
            content = np.ascontiguousarray(array).astype(stored)
        made.attr["dtype"].type = _NUMBERS[stored]
        tensor = made.attr["value"].tensor
        tensor.dtype, tensor.tensor_content = _NUMBERS[stored], content.tobytes()
        for size in array.shape:
            tensor.tensor_shape.dim.add(size=size)

    @staticmethod
    def _tensor(place: Place | None) -> str:
        return f"{FEED}:0" if place is None else f"{_flat_name(place.scope, place.node)}:{place.result}"

    def _followed(self, place: Place) -> Place | None:
        """Where a tensor comes from, calls of functions looked through; None for what takes the images."""
        translator: Translator = self._translator
        while True:
            values = [place.value] if place.value is not None else translator.done().get((place.scope, place.node), [])
            if place.scope is translator.outermost and place.node == self._model.image.tensor.partition(":")[0]:
                return None
            if any(isinstance(each, Pixels) for each in values):
                return None
            node = place.scope.nodes[place.node]
            inner = place.scope.calls.get(place.node)
            if inner is not None:
                place = translator.resolved(inner, inner.returns[place.result])
            elif node.op in _PASSED_ON:
                place = self._alive(place, node)
            else:
                return place

    def _alive(self, place: Place, node: Any) -> Place:
        if _PASSED_ON[node.op] is not None:
            return self._translator.resolved(place.scope, node.input[0])
        for reference in node.input:
            source = self._translator.resolved(place.scope, reference)
            if not isinstance(self._translator.result(source), Nothing):
                return source
        return place


def _flat_name(scope: Scope, name: str) -> str:
    return f"{scope.path}{name}"
