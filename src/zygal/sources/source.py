"""One door for all sources: a file to a graph and what is known about it."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from math import prod
from pathlib import Path

from zygal.files import sha256_of
from zygal.graph import Graph, TensorType


@dataclass(frozen=True)
class Source:
    """A source as a graph. Its constants may be views of the open file: use it inside the block."""

    path: Path
    sha256: str
    framework: str
    framework_version: str
    graph: Graph
    notes: tuple[str, ...]
    """What a person should know about the conversion, one sentence each."""


@dataclass(frozen=True)
class SourceFacts:
    """What `survey` says of a source, whether or not it can be converted."""

    path: Path
    framework: str
    framework_version: str
    schema_version: str
    inputs: dict[str, TensorType | None]
    outputs: dict[str, TensorType | None]
    scores: str
    operators: dict[str, int]
    unknown_operators: list[str]
    layers: list[str]
    tensors: int
    parameters: int
    weight_dtypes: list[str]
    size_bytes: int


@contextmanager
def read_source(path: str | Path) -> Iterator[Source]:
    """The graph of a trained model's file. Raises FileError, SourceError or UnknownOperators."""
    from zygal.sources.pytorch import open_program, read_program, translate

    with open_program(path) as archive:
        program = read_program(archive)
        notes = []
        if program.batch is None:
            notes.append(
                "the program was captured with a fixed batch, and so is the artifact; capture it with a "
                "dynamic batch (axis 0) to run other batch sizes"
            )
        if len(program.outputs) > 1:
            notes.append(
                f"the program returns {len(program.outputs)} tensors ({', '.join(program.outputs)}); "
                f"the first, {program.outputs[0]}, is taken as the scores"
            )
        widths = _weight_dtypes(program)
        if any(width in ("float16", "bfloat16", "float64") for width in widths):
            notes.append(f"the weights are {', '.join(widths)}; the artifact computes in float32")
        translation = translate(program, archive)
        notes += translation.notes
        yield Source(Path(path), sha256_of(path), "PyTorch", program.framework_version, translation.graph, tuple(notes))


def source_facts(path: str | Path) -> SourceFacts:
    """What a source says of itself, from its graph alone. Raises FileError or SourceError."""
    from zygal.sources.pytorch import open_program, read_program
    from zygal.sources.pytorch.translate import unknown_operators

    with open_program(path) as archive:
        program = read_program(archive)
        operators = Counter(call.target.removeprefix("torch.ops.") for call in program.calls)
        return SourceFacts(
            path=Path(path),
            framework="PyTorch",
            framework_version=program.framework_version,
            schema_version=program.schema_version,
            inputs={name: program.types.get(name) for name in program.inputs},
            outputs={name: program.types.get(name) for name in program.outputs},
            scores=_scores_kind(program),
            operators=dict(operators.most_common()),
            unknown_operators=sorted(unknown_operators(program)),
            layers=list(dict.fromkeys(call.layer for call in program.calls)),
            tensors=len(program.tensors),
            parameters=sum(prod(program.tensors[name].sizes) for name in program.trained),
            weight_dtypes=_weight_dtypes(program),
            size_bytes=Path(path).stat().st_size,
        )


def _scores_kind(program) -> str:
    """What the first output is, by the call that makes it."""
    made_by = {name: call.target for call in program.calls for name in call.results}
    operator = made_by.get(program.outputs[0], "").removeprefix("torch.ops.aten.").partition(".")[0].strip("_")
    known = {"softmax": "probabilities", "sigmoid": "independent probabilities", "log_softmax": "log-probabilities"}
    return known.get(operator, "logits")


def _weight_dtypes(program) -> list[str]:
    names = {program.dtype_names.get(name, "unknown") for name in program.tensors}
    return sorted(name for name in names if "float" in name)
