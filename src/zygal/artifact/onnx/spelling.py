"""How the standard spells the graph's operators: from which opset on, and which parameters it takes as tensors.

An operator that is not listed here has its parameters as attributes and is as old as the oldest opset that is written.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any

from zygal.artifact.formats import Writing
from zygal.graph import Graph, Node
from zygal.graph.ops import known_operators, operator_named
from zygal.graph.ops.sampling import MODES_BEFORE_20

LOWEST_OPSET = 13


@dataclass(frozen=True)
class Slot:
    """A parameter that is handed over as a tensor, at the input `place`, from opset `since` on. dtype: None for that of
    the first input. scalar: without an axis."""

    place: int
    since: int = 1
    dtype: str | None = "int64"
    scalar: bool = False


@dataclass(frozen=True)
class Spelling:
    """since: the lowest opset (13 or later) at which the standard has the operator in this form. The version of the
    operator that this opset includes is the one that is meant; docs/operators.md lists it for each. slots: by
    parameter. dtypes: parameters that are dtypes. unwritten: those that are knowledge of the graph alone. rewritten:
    attributes as an opset spells them. name: the standard's, where the graph has another. plain: with all parameters at
    their defaults it is as old as the oldest opset."""

    since: int = LOWEST_OPSET
    slots: Mapping[str, Slot] = field(default_factory=dict)
    dtypes: tuple[str, ...] = ()
    unwritten: tuple[str, ...] = ()
    rewritten: Callable[[Mapping[str, Any], int], Mapping[str, Any]] | None = None
    name: str | None = None
    plain: bool = False


def _older_modes(attributes: Mapping[str, Any], opset: int) -> Mapping[str, Any]:
    """The standard gave the modes of GridSample other names in opset 20."""
    return attributes if opset >= 20 else {**attributes, "mode": MODES_BEFORE_20[attributes["mode"]]}


_PLAIN = Spelling()
_OF_FIRST = {"dtype": None, "scalar": True}
_AXES_LATER = Spelling(slots={"axes": Slot(1, since=18)})
_RECURRENT = Spelling(since=14)
SPELLINGS: dict[str, Spelling] = {
    "Attention": Spelling(since=23),
    "Cast": Spelling(dtypes=("to",)),
    "Clip": Spelling(slots={"min": Slot(1, **_OF_FIRST), "max": Slot(2, **_OF_FIRST)}),
    "CumSum": Spelling(slots={"axis": Slot(1, scalar=True)}),
    "Expand": Spelling(unwritten=("sizes",)),
    "GRU": _RECURRENT,
    "Gelu": Spelling(since=20),
    "GridSample": Spelling(since=16, rewritten=_older_modes),
    "HardSwish": Spelling(since=14),
    "LSTM": _RECURRENT,
    "LayerNormalization": Spelling(since=17),
    "MeasuredExpand": Spelling(name="Expand"),
    "MeasuredPad": Spelling(name="Pad"),
    "MeasuredReshape": Spelling(name="Reshape", unwritten=("known",)),
    "MeasuredSlice": Spelling(name="Slice", slots={"axes": Slot(3)}),
    "Pad": Spelling(slots={"pads": Slot(1), "value": Slot(2, **_OF_FIRST)}),
    "RNN": _RECURRENT,
    "ReduceSum": Spelling(slots={"axes": Slot(1, since=13)}),
    **dict.fromkeys(("ReduceMean", "ReduceMax", "ReduceMin", "ReduceProd", "ReduceL1", "ReduceL2"), _AXES_LATER),
    "Reshape": Spelling(slots={"shape": Slot(1)}),
    "Resize": Spelling(slots={"scales": Slot(2, dtype="float32")}),
    "ScatterElements": Spelling(since=16),
    "Shape": Spelling(since=15, plain=True),
    "Slice": Spelling(slots={"starts": Slot(1), "ends": Slot(2), "axes": Slot(3), "steps": Slot(4)}),
    "Squeeze": Spelling(slots={"axes": Slot(1)}),
    "Tile": Spelling(slots={"repeats": Slot(1)}),
    "TopK": Spelling(slots={"k": Slot(1)}),
    "Unsqueeze": Spelling(slots={"axes": Slot(1)}),
}


def spelling_of(operator: str) -> Spelling:
    """How an operator of the graph is written in ONNX."""
    return SPELLINGS.get(operator, _PLAIN)


def needed_opset(node: Node) -> int:
    """The lowest opset that can express a node, and what is inside it."""
    spelling, operator = spelling_of(node.operator), operator_named(node.operator)
    inner = [
        needed_opset(each) for value in node.attributes.values() if isinstance(value, Graph) for each in value.nodes
    ]
    complete = operator.complete(node.attributes)
    plain = spelling.plain and all(complete[parameter.name] == parameter.default for parameter in operator.parameters)
    return max([LOWEST_OPSET if plain else spelling.since, *inner])


def lowest_opset(graph: Graph) -> int:
    """The lowest opset that can express a graph."""
    return max([LOWEST_OPSET, *map(needed_opset, graph.nodes)])


def operators_of(writing: Writing) -> frozenset[str]:
    """The graph's operators that an opset has."""
    return frozenset(name for name in known_operators() if spelling_of(name).since <= writing.opset)
