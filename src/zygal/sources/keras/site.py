"""What the tables of layers see of one call of a layer, and values whose axes may lie in another order than they count."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from math import prod
from typing import Any, NoReturn

import numpy as np

from zygal.errors import SourceError, shown
from zygal.graph import Batch, GraphBuilder
from zygal.sources.emitter import Emitter
from zygal.sources.keras.settings import Positional, Settings, unread_settings
from zygal.sources.keras.structure import Layer


@dataclass(frozen=True)
class View:
    """A value as the training code counts its axes.

    Axis `p` of the graph's value `name` is axis `order[p]` of the training code's tensor, so that images whose
    channels come last can lie as convolutions need them. `picks`, for a matrix, says which column of the
    value is each column of the training code's: what flattening such an image leaves behind.
    """

    name: str
    order: tuple[int, ...]
    picks: np.ndarray | None = None


Handler = Callable[["LayerSite"], "View | list[View]"]
LAYERS: dict[str, Handler] = {}
OPERATIONS: dict[str, Handler] = {}
NOTHING_AT_INFERENCE: set[str] = set()
"""Classes of layers that leave their input as it is, whatever their settings say."""


def layer(*names: str) -> Callable[[Handler], Handler]:
    """Enters a function into the table of layers under class names."""

    def enter(handler: Handler) -> Handler:
        LAYERS.update(dict.fromkeys(names, handler))
        return handler

    return enter


def operation(*names: str) -> Callable[[Handler], Handler]:
    """Enters a function into the table of the framework's functions that models keep as layers."""

    def enter(handler: Handler) -> Handler:
        OPERATIONS.update(dict.fromkeys(names, handler))
        return handler

    return enter


def function_of(shown: Layer) -> str:
    """The name under which the table has the function that an operation calls."""
    if shown.class_name == "TFOpLambda":
        return shown.config.get("function", "unknown")
    return "__operators__.getitem" if shown.class_name == "SlicingOpLambda" else shown.class_name


class LayerSite(Emitter):
    """One call of a layer while it is translated: its configuration, arguments and arrays."""

    def __init__(self, builder: GraphBuilder, where: str, shown: Layer, name: str, positional, named, weights):
        super().__init__(builder, name, name)
        self._opened: list[Settings] = []
        self.shown, self.config = shown, self.reading(shown.class_name, shown.config)
        self.positional, self.named = Positional(positional), Settings(shown.class_name, named)
        self.function, self.first_ages = function_of(shown), False
        self._where, self._weights = where, weights

    def refuse(self, why: str) -> NoReturn:
        raise SourceError(f"{self._where} cannot be converted: layer {self._layer} ({self.shown.class_name}) {why}.")

    def reading(self, class_name: str, config: Mapping[str, Any]) -> Settings:
        """A configuration of which everything must be read or be neutral."""
        self._opened.append(Settings(class_name, config))
        return self._opened[-1]

    def run(self, handler: Handler) -> list[View]:
        """What the handler makes of the call. Raises SourceError if it left a setting or an argument unread."""
        made = handler(self)
        if self.shown.class_name not in NOTHING_AT_INFERENCE:
            for settings in self._opened:
                self._refuse_unread(unread_settings(settings), settings)
        self._refuse_unread(unread_settings(self.named, named=True), self.named)
        if self.first_ages and dict.get(self.named, "training"):
            # Since version 3 what the whole model is asked for decides.
            self.refuse("is always called in training mode, which is not supported")
        for position, value in enumerate(list.__iter__(self.positional)):
            if position not in self.positional.read and value is not None:
                self.refuse(f"is called with a further argument ({_said(value)}), which is not supported")
        return made if isinstance(made, list) else [made]

    def _refuse_unread(self, names: list[str], settings: Settings) -> None:
        if names:
            listed = ", ".join(f"{name} = {_said(dict.get(settings, name))}" for name in names[:3])
            self.refuse(f"has a setting that is not supported ({listed})")

    # Arguments and arrays

    @property
    def x(self) -> View:
        """The only tensor that the layer is called on."""
        views = self.views()
        if len(views) > 1:
            self.refuse(f"is called on {len(views)} tensors at once, which is not supported")
        return views[0]

    def views(self) -> list[View]:
        """The tensors that the layer is called on, as one list."""
        given = self.positional[0] if self.positional else next(iter(self.named.values()), None)
        listed = list(given) if isinstance(given, (list, tuple)) else [given]
        if not listed or not all(isinstance(each, View) for each in listed):
            self.refuse("is called on something other than a tensor")
        return listed

    def argument(self, position: int, name: str, default: Any = None) -> Any:
        """An argument of a function by its place or name."""
        return self.positional[position] if position < len(self.positional) else self.named.get(name, default)

    def weight(self, name: str, part: str = "") -> np.ndarray | None:
        """An array of the layer, or None if the layer has no such variable."""
        return self._weights.get((part, name))

    def needed(self, name: str, part: str = "", shape: tuple[int | None, ...] | None = None) -> np.ndarray:
        """An array that the layer must have, of a shape in which None fits any size."""
        array = self.weight(name, part)
        if array is None:
            self.refuse(f"has no {name}")
        if shape is not None and (
            array.ndim != len(shape) or any(w is not None and w != h for w, h in zip(shape, array.shape))
        ):
            wanted = ["any" if size is None else size for size in shape]
            self.refuse(f"has a {name} of {list(array.shape)} where {wanted} is needed")
        return array

    def inner(self, part: str, given: View) -> View:
        """What the layer that this one wraps makes of a value."""
        entry = self.config[part]
        wrapped = Layer(self.shown.name, entry["class_name"], "", entry["config"], [])
        if wrapped.class_name not in LAYERS:
            self.refuse(f"wraps a layer {wrapped.class_name}, which is not known")
        wrapped_weights = {
            (own.removeprefix(part).strip("/"), name): array
            for (own, name), array in self._weights.items()
            if own.startswith(part)
        }
        site = LayerSite(self._builder, self._where, wrapped, self._stem, [given], {}, wrapped_weights)
        site.first_ages = self.first_ages
        return site.run(LAYERS[wrapped.class_name])[0]

    # Layouts

    def rank(self, view: View) -> int:
        return len(view.order)

    def check_size(self, sizes) -> None:
        """Refuses sizes at which what only the configuration says would take memory beyond reason."""
        if prod(size for size in sizes if isinstance(size, int)) > 1 << 28:
            self.refuse(f"works on {' x '.join(map(str, sizes))} numbers, too many for an image")

    def shape(self, view: View) -> tuple:
        """The sizes as the training code counts them."""
        sizes = self.type_of(view.name).shape
        made: list = [None] * len(sizes)
        for position, axis in enumerate(view.order):
            made[axis] = sizes[position]
        return tuple(made)

    def laid(self, view: View, order: tuple[int, ...]) -> str:
        """The value with its axes in a certain order."""
        name = self.gathered(view)
        if view.order == order:
            return name
        sizes = dict(zip(view.order, self.type_of(name).shape))
        if [axis for axis in view.order if sizes[axis] != 1] == [axis for axis in order if sizes[axis] != 1]:
            return self.reshaped(name, [sizes[axis] for axis in order])  # Nothing moves in memory.
        return self.step("Transpose", name, perm=[view.order.index(axis) for axis in order])

    def plain(self, view: View) -> str:
        """The value with its axes as the training code counts them."""
        return self.laid(view, tuple(range(len(view.order))))

    def gathered(self, view: View) -> str:
        """The value's name, its columns in the training code's order."""
        if view.picks is None:
            return view.name
        return self.step("Gather", view.name, self.constant(view.picks, "columns"), axis=1)

    def channels_first(self, view: View) -> tuple[str, tuple[int, ...]]:
        """The value as [N, C, ...], and the order that this is."""
        order = self.image_order(len(view.order))
        return self.laid(view, order), order

    def image_order(self, rank: int) -> tuple[int, ...]:
        """The order of axes in which the channels of this layer's data format come second."""
        if self.config.get("data_format") == "channels_first":
            return tuple(range(rank))
        return (0, rank - 1, *range(1, rank - 1))

    def named_view(self, name: str, order: tuple[int, ...] | None = None) -> View:
        return View(name, order or tuple(range(self.type_of(name).rank)))

    def elementwise(self, view: View, function: Callable[[str], str]) -> View:
        """A function of every element by itself: neither order matters."""
        return View(function(view.name), view.order, view.picks)

    def together(self, views: list[View]) -> tuple[list[str], View]:
        """Values in one order for an operation that broadcasts, and a view that stands for its result."""
        rank = max(len(view.order) for view in views)
        widest = [view for view in views if len(view.order) == rank]
        lead = next((view for view in widest if self.array(view.name) is None), widest[0])
        same = all(_equal(view.picks, lead.picks) and view.order == lead.order for view in views)
        if same:
            return [view.name for view in views], lead
        if lead.picks is not None:
            lead = View(self.gathered(lead), lead.order)
        names = []
        for view in views:
            if view is lead:
                names.append(view.name)
                continue
            name, order = self.gathered(view), view.order
            missing = rank - len(order)
            if missing:
                name = self.step("Unsqueeze", self.plain(View(name, order)), axes=list(range(missing)))
                order = tuple(range(rank))
            names.append(self.laid(View(name, order), lead.order))
        return names, lead

    def constant_view(self, value: Any, like: View) -> View:
        """A number or nested lists of numbers as a value of the dtype of another."""
        array = np.asarray(value, self.type_of(like.name).dtype)
        return self.named_view(self.constant(array, "number"))


def _said(value: Any) -> str:
    return "a tensor" if isinstance(value, View) else shown(value)


def is_batch(size: Any) -> bool:
    return isinstance(size, Batch)


def _equal(first: np.ndarray | None, second: np.ndarray | None) -> bool:
    if first is None or second is None:
        return first is second
    return np.array_equal(first, second)
