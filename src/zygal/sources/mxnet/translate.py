"""A symbol and its parameters to a graph, one node after the other."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from zygal.errors import GraphError, SourceError, UnknownOperators, shown
from zygal.files.documents import parse_json
from zygal.files.opening import read_text
from zygal.graph import Batch, Graph, TensorType
from zygal.graph.passes.dead import remove_dead
from zygal.sources.mxnet import table_arranging, table_layers, table_plain  # noqa: F401  (each table enters its operators)
from zygal.sources.mxnet.site import OPERATORS, Context, SymbolSite
from zygal.sources.mxnet.symbol import Symbol, SymbolNode

_DTYPES = {"0": "float32", "1": "float64", "2": "float16", "3": "uint8"}
_LABELLED = frozenset(
    (
        "SoftmaxOutput",
        "Softmax",
        "LogisticRegressionOutput",
        "LinearRegressionOutput",
        "SVMOutput",
        "MAERegressionOutput",
    )
)
"""Operators whose second input is the label of training."""
_STATISTICS = ("moving_mean", "moving_var")
_FAULTS = (TypeError, ValueError, IndexError, ArithmeticError)


class Translator:
    """The values of a symbol. arrays: by the names of the parameter file. image_shape: of one image's tensor. Raises
    SourceError."""

    def __init__(self, symbol: Symbol, arrays: Mapping[str, np.ndarray], image_shape: tuple[int, ...] | None = None):
        self.symbol, self.where, self._shape = symbol, str(symbol.path), image_shape
        self.context = Context(self.where)
        self.builder = self.context.builder
        self.arrays = _by_plain_names(arrays, self.where)
        self._values: dict[tuple[int, int], str | None] = {}
        """By node and output; None of what an unknown operator makes."""
        self.given = self._names_given()

    def _names_given(self) -> list[str]:
        """The names of what the graph is given: no weights, and no labels."""
        needed, labels = set(), set()
        for node in self.symbol.nodes:
            for place, (source, _) in enumerate(node.inputs):
                name = self.symbol.nodes[source].name
                (labels if place == 1 and node.op in _LABELLED else needed).add(name)
        needed |= {self.symbol.nodes[place].name for place, _ in self.symbol.heads}
        return [
            node.name
            for node in self.symbol.nodes
            if node.op == "null" and node.name in needed and node.name not in self.arrays
        ]

    def input_type(self) -> tuple[str, TensorType]:
        """The one input that is given, and its type. Raises SourceError."""
        if len(self.given) != 1:
            missing = ", ".join(map(shown, self.given[:4])) + (", ..." if len(self.given) > 4 else "")
            raise SourceError(
                f"{self.where} takes {len(self.given)} inputs ({missing}); an image classifier takes one. If these are "
                "weights, the parameter file is that of another model."
            )
        (name,) = self.given
        node = next(each for each in self.symbol.nodes if each.op == "null" and each.name == name)
        stated = stated_shape(self.symbol, node)
        shape = stated or self._shape
        if shape is None:
            raise SourceError(
                f"{self.where} does not say of which size its images are; say it with --shape, as in --shape "
                "3,224,224, or give an inlet that ends with a size."
            )
        number = node.said.get("__dtype__", "0")
        if number not in _DTYPES:
            raise SourceError(f"{self.where} takes {shown(name)} in the dtype number {number}, which is not supported.")
        return name, TensorType(np.dtype(_DTYPES[number]), (Batch(), *shape))

    def run(self) -> None:
        """Translates all nodes that the heads need. Raises SourceError; UnknownOperators naming all that are not known
        at once."""
        name, type = self.input_type()
        image = self.builder.input(name, type)
        needed = self._needed()
        for place, node in enumerate(self.symbol.nodes):
            if place not in needed:
                continue
            if node.op != "null":
                self._translated(place, node)
            elif node.name == name:
                self._values[place, 0] = image
            else:
                self._values[place, 0] = self.builder.constant(node.name, self._array(node.name))
        if self.context.unknown:
            raise UnknownOperators(self.where, self.context.unknown, again="save")

    def _needed(self) -> set[int]:
        found, waiting = set(), [place for place, _ in self.symbol.heads]
        while waiting:
            place = waiting.pop()
            if place in found:
                continue
            found.add(place)
            node = self.symbol.nodes[place]
            waiting += [each for each, _ in node.inputs[: 1 if node.op in _LABELLED else None]]
        return found

    def _array(self, name: str) -> np.ndarray:
        if name not in self.arrays:
            raise SourceError(
                f"{self.where} needs the weight {shown(name)}, which its parameter file does not hold; give the file "
                "that was saved together with it, with --weights."
            )
        return self.arrays[name]

    def _translated(self, place: int, node: SymbolNode) -> None:
        entries = node.inputs[:1] if node.op in _LABELLED else node.inputs
        values = [self._values.get(each) for each in entries]
        known = OPERATORS.get(node.op)
        if known is None and node.op.startswith(("_random_", "_sample_")):
            raise SourceError(
                f"{self.where} cannot be converted: {shown(node.name)} ({node.op}) draws random numbers, as the graph "
                "of training does; run the network once for prediction and export it again."
            )
        if known is None:
            self.context.unknown.setdefault(node.op, []).append(shown(node.name))
            return
        if None in values:
            if not self.context.unknown:
                raise SourceError(f"{self.where} is damaged: {shown(node.name)} reads a result that no node makes.")
            return
        if node.op.startswith("BatchNorm") and len(values) == 3:
            # Before 0.9 the statistics of training were no inputs of their own.
            names = [f"{node.name}_{each}" for each in _STATISTICS]
            values += [self.builder.constant(each, self._array(each)) for each in names]
        site = SymbolSite(self.context, node, values)
        try:
            made = known(site)
        except GraphError as fault:
            raise SourceError(f"{self.where} cannot be converted: {fault}") from fault
        except _FAULTS as fault:
            raise SourceError(
                f"{self.where} cannot be converted: {shown(node.name)} ({node.op}) does not fit what it is given "
                f"({type(fault).__name__}: {fault})."
            ) from fault
        site.check_read()
        made = (made,) if isinstance(made, str) else made
        for number, value in enumerate(made):
            name = f"{node.name}_output" + (str(number) if len(made) > 1 else "")
            self._values[place, number] = site.renamed(value, name)

    def outputs(self) -> dict[str, str | None]:
        """The results by their names, in order, with the graph's values. Raises SourceError."""
        found = {}
        for place, number in self.symbol.heads:
            name = self.symbol.nodes[place].name
            name = f"{name}_output" if f"{name}_output" not in found else f"{name}_output{number}"
            found[name] = self._values.get((place, number))
        return found

    def graph(self, name: str) -> Graph:
        """The graph that makes one of the results, by its name. Raises SourceError."""
        value = self.outputs()[name]
        if value is None:
            raise SourceError(f"{self.where} cannot be converted: its result {shown(name)} is one that no node makes.")
        if value in self.builder.input_names:
            value = self.builder.add("Identity", [value], self.builder.free_name(f"{value}.value"))
        try:
            return remove_dead(self.builder.finish([value]))
        except GraphError as fault:
            raise SourceError(f"{self.where} cannot be converted: {fault}") from fault


def _by_plain_names(arrays: Mapping[str, np.ndarray], where: str) -> dict[str, np.ndarray]:
    """Without what says whether training changes them."""
    found = {}
    for name, array in arrays.items():
        plain = name.partition(":")[2] if name.startswith(("arg:", "aux:")) else name
        if plain in found:
            raise SourceError(f"the parameter file of {where} holds {shown(plain)} twice.")
        found[plain] = array
    return found


def stated_shape(symbol: Symbol, node: SymbolNode) -> tuple[int, ...] | None:
    """The shape of one image where the node says it, or the file model-shapes.json beside. Raises SourceError."""
    text = node.said.get("__shape__", "").strip()
    if text.startswith("(") and text.endswith(")"):
        parts = [each.strip().rstrip("L") for each in text[1:-1].split(",") if each.strip()]
        sizes = [int(each) for each in parts if each.isascii() and each.isdigit() and len(each) < 10]
        if len(parts) == len(sizes) > 1 and all(sizes[1:]):
            return tuple(sizes[1:])
    beside = symbol.path.parent / "model-shapes.json"
    if not beside.is_file():
        return None
    stated = parse_json(read_text(beside, "shapes"), str(beside), SourceError, list)
    for each in stated:
        if isinstance(each, dict) and each.get("name") == node.name:
            shape = each.get("shape")
            if isinstance(shape, list) and len(shape) > 1 and all(isinstance(n, int) and n > 0 for n in shape[1:]):
                return tuple(shape[1:])
    return None
