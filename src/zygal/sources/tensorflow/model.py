"""An opened graph: its signature, where the images come in, and the graphs of its outputs, translated when they are
asked for."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import numpy as np

from zygal.errors import SourceError, UnknownOperators
from zygal.files.families import Reading
from zygal.graph import Graph
from zygal.inlet import Inlet
from zygal.sources.layouts import View
from zygal.sources.tensorflow.entries import Entry, fed_constants, image_entry, image_type, inputs_of, outputs_of
from zygal.sources.tensorflow.graph_file import GraphFile, Signature
from zygal.sources.tensorflow.label_tables import LabelTables
from zygal.sources.tensorflow.pixels import Encoded
from zygal.sources.tensorflow.program import chosen_signature, open_graph
from zygal.sources.tensorflow.scopes import Place, Scope
from zygal.sources.tensorflow.site import IN_TRAINING, UNKNOWN, Context, Label, NodeSite, Texts, Value
from zygal.sources.tensorflow.translate import Output, Translator, captured
from zygal.sources.tensorflow.weights import Weights


class Model:
    """One signature of a file. image: the input that takes the images."""

    def __init__(self, file: GraphFile, signature: Signature | None, reading: Reading):
        self.file, self.signature = file, signature
        self._outputs = outputs_of(file, signature)
        places = inputs_of(file, signature)
        self.image: Entry = image_entry(file, places, reading)
        self._constants = fed_constants(file, places, self.image)
        self.context = Context(str(file.path), weights=Weights(file), tables=LabelTables(file), arrays=file.arrays)
        self.translator = Translator(file, self.context)
        self._values: dict[str, Value] = {}
        self._graphs: dict[str, Graph] = {}
        self._called: dict[str, Value] | None = None
        self._scope: Scope | None = None
        for tensor, array in self._constants.items():
            self._feed(
                tensor, View(self.context.builder.constant(tensor.partition(":")[0], array), tuple(range(array.ndim)))
            )
        if self.image.is_text:
            self._feed(self.image.tensor, Encoded())
        else:
            type, name = image_type(file, self.image, reading), self.image.tensor.partition(":")[0]
            made = self.context.builder.input(self.context.builder.free_name(name), type)
            self._feed(self.image.tensor, View(made, tuple(range(type.rank))))

    def _feed(self, tensor: str, value: Value) -> None:
        self.translator.fed[tensor.partition(":")[0]] = value

    @property
    def in_training(self) -> bool:
        """Whether the part that was translated holds what only training does."""
        return IN_TRAINING in self.context.notes

    @property
    def hidden_inputs(self) -> bool:
        """Whether something depends on placeholders that the signature does not name."""
        named = (
            {tensor.partition(":")[0] for tensor, _, _ in self.signature.inputs.values()} if self.signature else set()
        )
        return bool(self.translator.read - named)

    @property
    def output_names(self) -> list[str]:
        """The names of all outputs."""
        return list(self._outputs)

    @property
    def inlet(self) -> Inlet | None:
        """What the graph does to pixels, as an inlet."""
        return self.translator.entrance.inlet

    def value_of(self, output: str) -> Value:
        """Raises UnknownOperators or SourceError."""
        if output not in self._outputs:
            raise SourceError(f"{self.file.path} has no output {output}; it has {', '.join(self._outputs)}.")
        if output not in self._values:
            self._values[output] = self._computed(output)
        value = self._values[output]
        if value is UNKNOWN:
            raise UnknownOperators(str(self.file.path), self.context.unknown, again="save")
        return value

    def _computed(self, output: str) -> Value:
        if self.signature is None or self.signature.function is None:
            return self.translator.value(self._outputs[output])
        if self._called is None:
            fed = self.translator.fed
            missing = [name for name in self.signature.inputs if name not in fed]
            if missing:
                raise SourceError(
                    f"{self.file.path} takes {', '.join(missing)} beside the image, and it is not known what "
                    f"they must be."
                )
            arguments = [fed[name] for name in self.signature.inputs]
            arguments += [captured(self.file, each) for each in self.signature.captured]
            self._scope = self.translator.called(self.signature.function, arguments)
            self._called = {
                name: self.translator.value(each, self._scope)
                for name, each in zip(self.signature.outputs, self._scope.returns)
            }
        return self._called[output]

    def place_of(self, output: str) -> Place:
        """Where in the graph an output comes from."""
        if self.signature is None or self.signature.function is None:
            return self.translator.resolved(self.translator.outermost, self._outputs[output])
        scope = self._scope
        return self.translator.resolved(scope, scope.returns[list(self._outputs).index(output)])

    def graph_of(self, output: str) -> Graph:
        """The graph with that output alone. Raises UnknownOperators or SourceError."""
        if output not in self._graphs:
            value = self.value_of(output)
            if not isinstance(value, View):
                raise SourceError(
                    f"{self.file.path} returns text as {output}, which is no score; choose another output with "
                    f"--scores."
                )
            site = NodeSite(self.context, Output(output), output, self._outputs[output].partition(":")[0], [value])
            graph = self.context.builder.finish([site.plain(value)])
            if len(graph.inputs) != 1:
                raise SourceError(f"{self.file.path} takes no image on the way to {output}.")
            self._graphs[output] = graph
        return self._graphs[output]

    def labels(self, chosen: str) -> tuple[str, ...] | None:
        """The class names that another output looks up or holds, if they are as many as the scores."""
        graph = self._graphs.get(chosen)
        columns = graph.types[graph.outputs[0]].shape[-1:] if graph is not None else ()
        for name in self._outputs:
            if name == chosen:
                continue
            try:
                value = self.value_of(name)
            except SourceError:
                continue
            found = value.labels if isinstance(value, Label) else _texts(value)
            if found is not None and (len(found),) == columns:
                return found
        return None

    def notes(self) -> Iterator[str]:
        """What a person should know about the conversion."""
        yield from self.file.notes
        yield from self.context.notes
        widths = (self.context.widths | self.context.weights.widths) - {"float32"}
        if widths:
            yield f"the weights are {', '.join(sorted(widths))}; the artifact computes in float32"
        for tensor, array in self._constants.items():
            if tensor.partition(":")[0] not in self.translator.read:
                continue
            yield f"the input {tensor.partition(':')[0]} is taken to be {_plain(array)}, as it must be at inference"
        others = [
            each.name for each in self.file.signatures if self.signature is not None and _differs(each, self.signature)
        ]
        if others:
            yield (
                f"the signature {self.signature.name} was taken; there are also {', '.join(others)} (choose with "
                f"--signature NAME)"
            )
        yield from self.translator.entrance.notes


def _differs(one: Signature, other: Signature) -> bool:
    """Whether two signatures take or return other tensors."""
    shapes = (
        [sorted((dtype, str(shape)) for _, dtype, shape in listed.values()) for listed in (each.inputs, each.outputs)]
        for each in (one, other)
    )
    first, second = shapes
    return first != second


def _texts(value: Value) -> tuple[str, ...] | None:
    return (
        tuple(each.decode("utf-8", "replace") for each in value.array.reshape(-1)) if isinstance(value, Texts) else None
    )


def _plain(array: np.ndarray) -> str:
    value = array.reshape(-1)[0].item()
    return f"{value:g}" if isinstance(value, float) else str(value).lower()


def open_model(path: str | Path, reading: Reading, file: GraphFile | None = None) -> Model:
    """Raises FileError or SourceError."""
    file = file or open_graph(path)
    return Model(replace(file, path=Path(path)), chosen_signature(file, reading.signature), reading)
