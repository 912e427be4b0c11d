"""What the tables of layers see of one call of a layer: its configuration, its arguments, its arrays."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, NoReturn

import numpy as np

from zygal.errors import SourceError, shown
from zygal.graph import GraphBuilder
from zygal.sources.keras.handlers import LAYERS, NOTHING_AT_INFERENCE, Handler
from zygal.sources.keras.settings import Positional, Settings, unread_settings
from zygal.sources.keras.structure import Layer
from zygal.sources.layouts import LaidOut, View


def function_of(shown: Layer) -> str:
    """The name under which the table has the function that an operation calls."""
    if shown.class_name == "TFOpLambda":
        return shown.config.get("function", "unknown")
    return "__operators__.getitem" if shown.class_name == "SlicingOpLambda" else shown.class_name


class LayerSite(LaidOut):
    """One call of a layer while it is translated: its configuration, arguments and arrays."""

    def __init__(self, builder: GraphBuilder, where: str, shown: Layer, name: str, positional, named, weights):
        super().__init__(builder, name, name)
        self._opened: list[Settings] = []
        self.shown, self.config = shown, self.reading(shown.class_name, shown.config)
        self.positional, self.named = Positional(positional), Settings(shown.class_name, named)
        self.function, self.first_ages = function_of(shown), False
        self._where, self._weights = where, weights

    def refuse(self, why: str) -> NoReturn:
        """Raises SourceError with the layer's name and class."""
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

    @property
    def channels_last(self) -> bool:
        """Whether images have their channels last here."""
        return self.config.get("data_format") != "channels_first"

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


def _said(value: Any) -> str:
    return "a tensor" if isinstance(value, View) else shown(value)
