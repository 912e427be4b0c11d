"""What the table sees of one operator of a flatbuffer: its settings, its inputs, and ways to add to the graph.

The format's operators come from the same family of frameworks as those of graph definitions, and most of them mean the
same. So a site here is one of theirs that gets its settings from a flatbuffer, and their table serves both.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, NoReturn

import numpy as np

from zygal.errors import SourceError
from zygal.mobile.model import Operator, Tensor
from zygal.sources.layouts import View
from zygal.sources.mobile.names import layer_of, stem_of
from zygal.sources.mobile.quantization import Quantizer
from zygal.sources.tensorflow.site import Context, NodeSite, Value


class MobileSite(NodeSite):
    """One operator. settings: by the names that the shared table asks for. tensors: of the whole model."""

    def __init__(
        self,
        context: Context,
        operator: Operator,
        tensors: list[Tensor],
        inputs: list[Value],
        quantizer: Quantizer,
        layers: Mapping[str, str] = {},
    ):
        name = tensors[operator.outputs[0]].name if operator.outputs else operator.name
        super().__init__(
            context,
            None,
            stem_of(name),
            layers.get(name) or layers.get(name.rpartition("/")[0]) or layer_of(name),
            inputs,
        )
        self.operator, self.tensors, self.quantizer = operator, tensors, quantizer
        self.settings: Mapping[str, Any] = {}
        self.shared_kind = operator.name

    @property
    def kind(self) -> str:
        """The name by which the shared table knows the operator."""
        return self.shared_kind

    def refuse(self, why: str) -> NoReturn:
        """Raises SourceError with the operator's name."""
        raise SourceError(f"{self.context.where} cannot be converted: {self.name} ({self.operator.name}) {why}.")

    def attribute(self, name: str, default: Any = None) -> Any:
        """A setting of the operator; it counts as read."""
        self.read.add(name)
        return self.settings.get(name, default)

    def option(self, name: str) -> Any:
        """A setting by the schema's own name."""
        self.read.add(f"option {name}")
        return self.operator.options.get(name)

    # Tensors by their place among the inputs

    def tensor(self, place: int) -> Tensor:
        """The tensor of an input. Raises SourceError if there is none."""
        if not 0 <= place < len(self.operator.inputs) or self.operator.inputs[place] < 0:
            self.refuse(f"has no input {place}, so it is damaged")
        return self.tensors[self.operator.inputs[place]]

    def has(self, place: int) -> bool:
        """Whether an input is there."""
        return place < len(self.operator.inputs) and self.operator.inputs[place] >= 0

    @property
    def result(self) -> Tensor:
        """See `Outcome.result`."""
        return self.tensors[self.operator.outputs[0]]

    def known(self, place: int) -> np.ndarray | None:
        """The real numbers of an input that is a constant, or that holds known sizes; else None."""
        if self.has(place) and self.tensor(place).data is not None:
            return self.quantizer.real(self.tensor(place))
        return super().known(place)

    def fresh(self, hint: str) -> str:
        """A name for a constant of this operator."""
        return f"{self._stem}.{hint}"

    def named(self, view: View, name: str) -> View:
        """The view's value under a tensor's name, if that is free and the value was made here."""
        return View(self.renamed(view.name, name), view.order, view.permutation, view.origin)
