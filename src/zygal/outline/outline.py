"""A graph as a tree of parts by the names of its layers, opened where most is computed, with repeats folded."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from itertools import groupby
from typing import Any

import numpy as np

from zygal.graph import Graph, Node
from zygal.outline.cost import constants_read, multiply_adds, parameters_by_node, sizes_of

MOST_ROWS = 26
LONGEST_PATTERN = 4
LEAST_SHARE = 0.004
"""A part that takes less of parameters and of multiply-adds is not opened, unless the network is small."""
_DOTS, _STROKES = re.compile(r"[./]"), re.compile(r"(?<=[A-Za-z0-9])_")
"""What stands between the names of parts; strokes where a training code's names are flat."""


@dataclass(frozen=True)
class Step:
    """One node as the outline sees it. prefixes: the names of the parts that it is in, from the outermost; the last is
    its layer."""

    node: Node
    prefixes: tuple[str, ...]
    shape: tuple[int, ...]
    parameters: int
    multiply_adds: int
    signature: Any


@dataclass(frozen=True)
class Part:
    """Consecutive steps. repeat: how often they follow each other, with other weights; the steps are those of the first
    time. last_name: of the last time. parts: what it consists of, where it is opened. depth: how many prefixes its
    steps share."""

    name: str
    steps: tuple[Step, ...]
    depth: int
    repeat: int = 1
    last_name: str = ""
    parts: tuple[Part, ...] = field(default=())

    @cached_property
    def signature(self) -> Any:
        """What equal parts have in common."""
        return tuple(step.signature for step in self.steps)

    @property
    def parameters(self) -> int:
        """Of all times together."""
        return self.repeat * sum(step.parameters for step in self.steps)

    @property
    def multiply_adds(self) -> int:
        """For one image, of all times together."""
        return self.repeat * sum(step.multiply_adds for step in self.steps)

    @property
    def shape(self) -> tuple[int, ...]:
        """Of its result for one image."""
        return self.steps[-1].shape

    def rows(self) -> int:
        """How many rows it takes."""
        return sum(part.rows() for part in self.parts) if self.parts else 1


@dataclass(frozen=True)
class Outline:
    """parts: of the whole network. parameters, multiply_adds: totals, for one image. input_shape: of one image's
    tensor. layers, nodes: how many."""

    parts: tuple[Part, ...]
    input_shape: tuple[int, ...]
    parameters: int
    multiply_adds: int
    layers: int
    nodes: int

    def document(self) -> dict[str, Any]:
        """The outline as JSON data."""
        return {
            "input_shape": list(self.input_shape),
            "layers": self.layers,
            "operators": self.nodes,
            "parameters": self.parameters,
            "multiply_adds_per_image": self.multiply_adds,
            "parts": [_document(part) for part in self.parts],
        }


def _document(part: Part) -> dict[str, Any]:
    return {
        "name": part.name,
        "last_name": part.last_name or None,
        "repeat": part.repeat,
        "result_shape": list(part.shape),
        "operators": len(part.steps) * part.repeat,
        "parameters": part.parameters,
        "multiply_adds_per_image": part.multiply_adds,
        "parts": [_document(each) for each in part.parts],
    }


def outline_of(graph: Graph, most_rows: int = MOST_ROWS) -> Outline:
    """The outline of a graph in at most about so many rows."""
    steps = _steps(graph)
    parts = _opened(_folded(_split(steps, 0)), most_rows)
    return Outline(
        parts,
        sizes_of(graph, graph.inputs[0])[1:],
        sum(each.parameters for each in steps),
        sum(each.multiply_adds for each in steps),
        len(graph.layer_names()),
        len(graph.nodes),
    )


def _steps(graph: Graph) -> list[Step]:
    found, layer = [], ""
    separator = _DOTS if any("." in name or "/" in name for name in graph.layer_names()) else _STROKES
    for node, parameters in zip(graph.nodes, parameters_by_node(graph)):
        layer = node.layer or layer or node.operator
        shape = sizes_of(graph, node.outputs[0])[1:]
        signature = node.operator, _plain(node.attributes), shape, constants_read(graph, node)
        found.append(Step(node, _prefixes(layer, separator), shape, parameters, multiply_adds(graph, node), signature))
    return found


def _plain(attributes: Any) -> tuple:
    return tuple(
        (name, tuple(value) if isinstance(value, (list, np.ndarray)) else str(value))
        for name, value in sorted(attributes.items())
    )


def _prefixes(layer: str, separator: re.Pattern[str]) -> tuple[str, ...]:
    return (*(layer[: found.start()] for found in separator.finditer(layer) if found.start()), layer)


def _split(steps: Sequence[Step], depth: int) -> list[Part]:
    """Runs of steps with the same prefix at a depth."""
    runs = groupby(steps, lambda step: step.prefixes[min(depth, len(step.prefixes) - 1)])
    return [Part(name, tuple(run), depth + 1) for name, run in runs]


def _folded(parts: Sequence[Part]) -> tuple[Part, ...]:
    """Parts, or patterns of a few parts, that follow each other several times, as one."""
    made, place = [], 0
    while place < len(parts):
        best = (1, 1)
        for length in range(1, LONGEST_PATTERN + 1):
            times = _times(parts, place, length)
            if times > 1 and times * length > best[0] * best[1]:
                best = (length, times)
        length, times = best
        if times == 1:
            made.append(parts[place])
        else:
            pattern, last = parts[place : place + length], parts[place + length * times - 1]
            if length == 1:
                made.append(replace(pattern[0], repeat=times, last_name=last.name))
            else:
                steps = tuple(step for part in pattern for step in part.steps)
                made.append(Part(pattern[0].name, steps, pattern[0].depth, times, last.name, tuple(pattern)))
        place += length * times
    return tuple(made)


def _times(parts: Sequence[Part], place: int, length: int) -> int:
    times = 1
    while place + (times + 1) * length <= len(parts) and all(
        parts[place + index].signature == parts[place + times * length + index].signature for index in range(length)
    ):
        times += 1
    return times


def _opened(parts: tuple[Part, ...], most_rows: int) -> tuple[Part, ...]:
    """Opens part after part, the one that takes most first, as long as the rows suffice."""
    whole = max(sum(part.parameters for part in parts), 1), max(sum(part.multiply_adds for part in parts), 1)
    shut: set[int] = set()
    while True:
        rows = sum(part.rows() for part in parts)
        leaves = [leaf for leaf in _leaves(parts) if id(leaf) not in shut]
        leaf = max(leaves, key=lambda each: _weight(each, whole), default=None)
        if leaf is None or rows > most_rows / 2 and _weight(leaf, whole) < LEAST_SHARE:
            return parts
        inner = _inner(leaf)
        # A convolution with its activation is one row.
        if (
            sum(each.repeat for each in inner if _weight(each, whole) > 0) < 2
            or rows - 1 + sum(each.rows() for each in inner) > most_rows
        ):
            shut.add(id(leaf))
            continue
        parts = tuple(_with(part, leaf, inner) for part in parts)


def _inner(leaf: Part) -> tuple[Part, ...]:
    """What a part consists of, at the first depth at which its steps differ."""
    deepest = max(len(step.prefixes) for step in leaf.steps)
    for depth in range(leaf.depth, deepest):
        found = _folded(_split(leaf.steps, depth))
        if len(found) > 1 or found[0].repeat > 1:
            return found
    return ()


def _leaves(parts: Sequence[Part]) -> Iterator[Part]:
    for part in parts:
        if part.parts:
            yield from _leaves(part.parts)
        else:
            yield part


def _weight(part: Part, whole: tuple[int, int]) -> float:
    return max(part.parameters / whole[0], part.multiply_adds / whole[1])


def _with(part: Part, leaf: Part, inner: tuple[Part, ...]) -> Part:
    if part is leaf:
        return replace(part, parts=inner)
    return replace(part, parts=tuple(_with(each, leaf, inner) for each in part.parts)) if part.parts else part


_WORDS = {
    "Gemm": "dense",
    "MatMul": "matrix product",
    "ConvTranspose": "transposed convolution",
    "Relu": "ReLU",
    "Gelu": "GELU",
    "Add": "sum",
    "Mul": "product",
    "GlobalAveragePool": "global mean",
    "ReduceMean": "mean",
    "BatchNormalization": "batch norm",
    "LayerNormalization": "layer norm",
    "HardSwish": "hard swish",
    "HardSigmoid": "hard sigmoid",
    "MaxPool": "max pool",
    "AveragePool": "mean pool",
    "QuantizeLinear": "",
    "DequantizeLinear": "",
    "Reshape": "",
    "Transpose": "",
    "Flatten": "",
    "Unsqueeze": "",
    "Squeeze": "",
    "Identity": "",
    "Cast": "",
    "Shape": "",
    "Constant": "",
}
"""Words of operators; what only moves or stores numbers is left out."""


def operators_in_words(part: Part, longest: int = 56) -> str:
    """The operators of a part once, those that compute most first, with how many there are, in at most so many
    letters."""
    counts: Counter[str] = Counter()
    weights: Counter[str] = Counter()
    for step in part.steps:
        word = _word(step)
        if word:
            counts[word] += 1
            weights[word] += step.multiply_adds + step.parameters
    ordered = sorted(counts, key=lambda word: -weights[word])
    words = [f"{counts[word]} {word}" if counts[word] > 1 else word for word in ordered]
    shown = len(words)
    while shown > 1 and len(", ".join(words[:shown])) + 4 * (shown < len(words)) > longest:
        shown -= 1
    return ", ".join(words[:shown]) + (" ..." if shown < len(words) else "") or "reshape"


def _word(step: Step) -> str:
    node = step.node
    if node.operator != "Conv":
        return _WORDS.get(node.operator, re.sub(r"(?<=[a-z])(?=[A-Z])", " ", node.operator).lower())
    kernel = " x ".join(map(str, node.attributes.get("kernel_shape", ())))
    strides, groups = node.attributes.get("strides", (1,)), node.attributes.get("group", 1)
    kind = "depthwise conv" if groups > 1 and groups == step.shape[0] else "grouped conv" if groups > 1 else "conv"
    return f"{kind} {kernel}" + (f" / {max(strides)}" if max(strides) > 1 else "")
