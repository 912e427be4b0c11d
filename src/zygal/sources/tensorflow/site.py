"""What the operator tables see of one node: its attributes, its inputs, and ways to add to the graph."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any, NoReturn

import numpy as np

from zygal.errors import SourceError, shown
from zygal.graph import Batch, Dimension, GraphBuilder
from zygal.sources.layouts import LaidOut, View
from zygal.sources.tensorflow.messages import DTYPES
from zygal.sources.tensorflow.tensors import computed_dtype, sizes_of

IN_TRAINING = "the graph was saved in training mode; it was converted to what it does at inference"
TYPES_AND_COUNTS = frozenset((
    "T", "Tin", "Tout", "Tidx", "Tshape", "Tperm", "Tparams", "Tindices", "Taxis", "Tdim", "Tlen", "TI", "Tpaddings",
    "Tblock_shape",
    "Tcrops", "Tmultiples", "Tshift", "Tcond", "Ta", "Tb", "Index", "U", "N", "index_type", "dtype", "out_type",
    "Tsplits", "SrcT", "Truncate",
    "use_cudnn_on_gpu", "use_locking", "validate_shape", "validate_indices", "container", "shared_name", "config",
    "config_proto",
    "executor_type", "f", "debug_name", "allowed_devices", "TArgs", "num_args", "num_host_args", "output_shapes",
    "_output_shapes", "seed", "seed2",
    "exponential_avg_factor", "message", "summarize", "grad_a", "grad_b", "grad_x", "grad_y", "bad_indices_policy",
    "Toutput_types", "S", "Tk", "Tindex", "Tval", "Tin_type", "Tsegmentids", "Tnumsegments", "Tmm",
))  # fmt: skip
"""Attributes that say nothing which the tensors do not, or that only other machines and training read."""


@dataclass(frozen=True)
class Resource:
    """A variable or a table, by the node that makes it. name: under which others may know it."""

    node: str
    name: str
    operator: str


@dataclass(frozen=True)
class Texts:
    """A tensor of text that does not depend on the image."""

    array: np.ndarray


@dataclass(frozen=True)
class Spread:
    """An image whose pixels were dealt out over the batch in blocks, so that a convolution sees only every n-th of
    them."""

    view: View
    blocks: tuple[int, ...]
    pads: tuple[tuple[int, int], ...]
    convolved: bool = False


@dataclass(frozen=True)
class Chance:
    """Random numbers from 0 to 1, with `added` to them."""

    added: float = 0.0


@dataclass(frozen=True)
class Label:
    """Text that a table of labels gives for the classes that the model orders. labels: in the order of the classes, if
    known."""

    labels: tuple[str, ...] | None = None


class Nothing:
    """A value that is not there. DEAD: of the branch that is not taken; UNKNOWN: of an operator that the table
    lacks."""


DEAD, UNKNOWN = Nothing(), Nothing()
Value = View | Resource | Texts | Spread | Chance | Label | Nothing
Handler = Callable[["NodeSite"], "Value | list[Value]"]
OPERATORS: dict[str, Handler] = {}
"""The operators that can be translated, by their names in graphs."""
OUTPUTS: dict[str, tuple[str, ...]] = {}
"""The names that operators with several results give them, as functions spell their inputs."""


def operator(*names: str, outputs: tuple[str, ...] = ()) -> Callable[[Handler], Handler]:
    """Enters a function into the table under names of operators."""

    def enter(handler: Handler) -> Handler:
        OPERATORS.update(dict.fromkeys(names, handler))
        if outputs:
            OUTPUTS.update(dict.fromkeys(names, outputs))
        return handler

    return enter


@dataclass
class Context:
    """What all nodes of one graph share while it is translated. where: the file. builder: what the graph is made in.

    unknown: operators that the table lacks, with the nodes that use them. weights, tables, arrays: what resources and
    constants beside the graph hold. operators: how often each was translated. numbers: how many weights each constant
    and variable holds that was read.
    """

    where: str
    builder: GraphBuilder = field(default_factory=GraphBuilder)
    notes: list[str] = field(default_factory=list)
    unknown: dict[str, list[str]] = field(default_factory=dict)
    widths: set[str] = field(default_factory=set)
    operators: Counter[str] = field(default_factory=Counter)
    numbers: dict[str, int] = field(default_factory=dict)
    weights: Any = None
    tables: Any = None
    arrays: Mapping[str, np.ndarray] = field(default_factory=dict)

    def note(self, sentence: str) -> None:
        """Adds a sentence once."""
        if sentence not in self.notes:
            self.notes.append(sentence)


class NodeSite(LaidOut):
    """One node while it is translated. Readers of attributes and inputs raise SourceError, naming the node."""

    def __init__(self, context: Context, node: Any, name: str, layer: str, inputs: list[Value]):
        super().__init__(context.builder, name, layer)
        self.context, self.node, self.name, self.inputs = context, node, name, inputs
        self.read: set[str] = set()

    @property
    def kind(self) -> str:
        """The operator's name."""
        return self.node.op

    def refuse(self, why: str) -> NoReturn:
        """Raises SourceError with the node's name and operator."""
        raise SourceError(f"{self.context.where} cannot be converted: {self.name} ({self.node.op}) {why}.")

    def note(self, sentence: str) -> None:
        """Adds a sentence for the user once."""
        self.context.note(sentence)

    # Attributes

    def attribute(self, name: str, default: Any = None) -> Any:
        """An attribute as plain data; from here on it counts as read."""
        self.read.add(name)
        if name not in self.node.attr:
            return default
        return plain_attribute(self.node.attr[name])

    def dtype(self, name: str, default: int = 1) -> np.dtype:
        """A dtype that an attribute names, as the artifact computes it."""
        return computed_dtype(self.attribute(name, default), f"{self.context.where}: {self.name}")

    def unread(self) -> list[str]:
        """Attributes that nobody looked at and that may mean something."""
        names = (
            name
            for name in self.node.attr
            if name not in self.read and name not in TYPES_AND_COUNTS and not name.startswith("_")
        )
        return sorted(names)

    @property
    def channels_last(self) -> bool:
        """Whether images have their channels last here."""
        return self.attribute("data_format", "NHWC") in ("NHWC", "NDHWC", "NWC", "")

    def spatial(self, name: str, default: int = 1) -> list[int]:
        """The entries of a list with one for each axis that belong to an image's height and width."""
        listed = self.attribute(name) or [default] * 4
        first = self.channels_last
        if listed[0] != 1 or listed[-1 if first else 1] != 1:
            self.refuse(f"has {name} {listed}, which reach over images or channels")
        return [int(each) for each in (listed[1:-1] if first else listed[2:])]

    # Inputs

    def given(self, place: int) -> Value:
        """What stands at an input, of whatever kind. Raises SourceError if there is none."""
        if not -len(self.inputs) <= place < len(self.inputs):
            self.refuse(f"has {len(self.inputs)} inputs, so it is damaged")
        return self.inputs[place]

    def x(self, place: int = 0) -> View:
        """A tensor input."""
        value = self.given(place)
        if isinstance(value, View):
            return value
        if isinstance(value, Chance):
            self.refuse("computes with random numbers, which an artifact cannot repeat")
        return self.refuse(f"is given {_kind_of(value)} where a tensor is needed")

    def xs(self) -> list[View]:
        """All inputs as views."""
        return [self.x(place) for place in range(len(self.inputs))]

    def known(self, place: int) -> np.ndarray | None:
        """The numbers of an input that does not depend on the image, else None."""
        view = self.x(place)
        array = self.array(view.name)
        if array is None or view.permutation is not None:
            return None
        return array if view.order == tuple(range(array.ndim)) else np.transpose(array, np.argsort(view.order))

    def static(self, place: int, what: str) -> np.ndarray:
        """The numbers of an input that must not depend on the image."""
        array = self.known(place)
        if array is None:
            self.refuse(f"has {what} that depend on the image")
        return array

    def number(self, value: float, like: str) -> str:
        """A constant of one number, of the dtype of another value."""
        return super().number(value, like)

    def static_number(self, place: int, what: str) -> Any:
        """One number that is known beforehand. Raises SourceError if it is not."""
        array = self.static(place, what)
        if array.size != 1:
            self.refuse(f"has {array.size} numbers for {what} where one is needed")
        return array.reshape(-1)[0].item()

    def axes(self, place: int, rank: int) -> list[int]:
        """Axes that an input names, from the front."""
        listed = [int(axis) for axis in self.static(place, "axes").reshape(-1)]
        if any(not -rank <= axis < rank for axis in listed):
            self.refuse(f"names the axes {listed} of {rank}")
        return sorted({axis % rank for axis in listed})

    def axis(self, place: int, rank: int) -> int:
        """One axis that is known beforehand, from 0. Raises SourceError."""
        axes = self.axes(place, rank)
        if len(axes) != 1:
            self.refuse(f"names the axes {axes} where one is needed")
        return axes[0]

    def sizes(self, place: int) -> list[Dimension]:
        """The dimensions that an input holds: numbers, multiples of the batch, and -1."""
        known = self.contents(self.x(place).name)
        if known is None:
            self.refuse("has a shape that cannot be followed; it must come from sizes of tensors and numbers")
        return [each if isinstance(each, Batch) else int(each) for each in known.reshape(-1)]

    # Results

    def value(self, name: str) -> View:
        """A value whose axes lie as they count."""
        return self.named_view(name)

    def held(self, array: np.ndarray, hint: str = "constant") -> View:
        """A constant as a view."""
        return self.value(self.constant(array, hint))


def plain_attribute(value: Any) -> Any:
    """An attribute's message as plain data; a function as its message."""
    kind = value.WhichOneof("value")
    if kind is None:
        return None
    found = getattr(value, kind)
    if kind == "s":
        return found.decode("utf-8", "backslashreplace")
    if kind == "shape":
        return sizes_of(found)
    if kind == "list":
        for name in ("i", "f", "b", "type"):
            if len(getattr(found, name)):
                return list(getattr(found, name))
        if len(found.s):
            return [each.decode("utf-8", "backslashreplace") for each in found.s]
        return [sizes_of(each) for each in found.shape] if len(found.shape) else list(found.func)
    return found


def _kind_of(value: Value) -> str:
    names = {
        Resource: "a variable",
        Texts: "text",
        Spread: "an image dealt out over the batch",
        Chance: "random numbers",
        Label: "labels",
    }
    return names.get(type(value), "nothing")


def shown_attributes(site: NodeSite, names: list[str]) -> str:
    """Some attributes in words."""
    return ", ".join(f"{name} = {shown(site.attribute(name))}" for name in names[:3])


def dtype_name(number: int) -> str:
    """The name of a dtype by its number."""
    return DTYPES.get(number % 100 if number > 100 else number, f"number {number}")
