"""The tables of layers and of functions of Keras: which function handles which."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

Handler = Callable[[Any], Any]
"""Takes a `LayerSite`, gives a View or several."""


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
