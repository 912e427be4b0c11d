"""Symbol files as sources: a graph, and what the files say of themselves."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

from zygal.classifier.choice import Candidate, Choice, choose_output, depths, linear_place
from zygal.classifier.scores import operators_before, scores_by_operators, softmax_twice
from zygal.errors import SourceError, UnknownOperators
from zygal.files.families import Reading
from zygal.graph import TensorType
from zygal.sources.mxnet.parameters import parameters_beside, read_parameters
from zygal.sources.mxnet.symbol import Symbol, read_symbol
from zygal.sources.mxnet.translate import Translator
from zygal.sources.source import Source, SourceFacts

FRAMEWORK = "MXNet"


@dataclass(frozen=True)
class Opened:
    """A symbol, its parameter file, and the translator of both."""

    symbol: Symbol
    parameters: Path
    translator: Translator


def opened(path: str | Path, reading: Reading) -> Opened:
    """Raises FileError or SourceError."""
    symbol = read_symbol(path)
    parameters = Path(reading.weights) if reading.weights else parameters_beside(symbol.path)
    return Opened(symbol, parameters, Translator(symbol, read_parameters(parameters), reading.image_shape))


@contextmanager
def read(path: str | Path, reading: Reading) -> Iterator[Source]:
    """See `sources.read_source`."""
    file = opened(path, reading)
    file.translator.run()
    outputs, chosen = _choice(str(path), file, reading)
    version = file.symbol.version or "of an unknown release"
    yield Source(Path(path), FRAMEWORK, version, file.translator.graph(chosen.name), tuple(outputs), chosen, ())


def _choice(where: str, file: Opened, reading: Reading) -> tuple[dict[str, str | None], Choice]:
    """The results, and the one that is taken for the class scores."""
    outputs, builder = file.translator.outputs(), file.translator.builder
    makers = {name: builder.maker(name) for name in builder.types}
    made_by = {name: (node.operator, list(node.inputs)) for name, node in makers.items() if node is not None}
    places = depths(made_by)
    candidates = [
        Candidate(name, builder.types.get(value), linear_place(value, made_by, places) if value else None)
        for name, value in outputs.items()
    ]
    return outputs, choose_output(where, candidates, reading.output, reading.classes)


def facts(path: str | Path, reading: Reading) -> SourceFacts:
    """What a symbol file says of itself. Raises FileError or SourceError."""
    file = opened(path, reading)
    translator, why_not, unknown, graph = file.translator, "", [], None
    try:
        translator.run()
    except UnknownOperators as fault:
        unknown = sorted(fault.layers)
    except SourceError as fault:
        why_not = str(fault)
    outputs, chosen = _choice(str(path), file, reading)
    if not unknown and not why_not:
        graph = translator.graph(chosen.name)
    ending = list(operators_before(graph.outputs[0], graph.made_by())) if graph is not None else []
    operators = [node.op for node in file.symbol.nodes if node.op != "null"]
    arrays = translator.arrays
    return SourceFacts(
        path=Path(path),
        framework=FRAMEWORK,
        framework_version=file.symbol.version,
        file_format=f"symbol file, weights in {file.parameters.name}",
        inputs=_inputs(translator),
        outputs={name: translator.builder.types.get(value) if value else None for name, value in outputs.items()},
        scores=scores_by_operators(ending),
        chosen=chosen,
        softmax_twice=softmax_twice(ending),
        mode=None,
        preprocessing=[],
        operators=dict(Counter(operators).most_common()),
        unknown_operators=unknown,
        layers=graph.layer_names() if graph is not None else [],
        tensors=len(arrays),
        parameters=sum(each.size for each in arrays.values() if each.dtype.kind == "f"),
        weight_dtypes=sorted({str(each.dtype) for each in arrays.values()}),
        size_bytes=Path(path).stat().st_size + file.parameters.stat().st_size,
        why_not=why_not,
    )


def _inputs(translator: Translator) -> dict[str, TensorType | None]:
    try:
        name, type = translator.input_type()
    except SourceError:
        return dict.fromkeys(translator.given)
    return {name: type}
