"""A captured program as a source, and what it says of itself."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager
from math import prod
from pathlib import Path

from zygal.classifier.scores import operators_before, scores_by_operators, softmax_twice
from zygal.files.families import Reading
from zygal.sources.pytorch.archive import open_program
from zygal.sources.pytorch.calls import IN_TRAINING
from zygal.sources.pytorch.choice import operators_of, scores_choice
from zygal.sources.pytorch.modes import captured_in_training
from zygal.sources.pytorch.program import Program, read_program
from zygal.sources.pytorch.tensors import TensorBytes
from zygal.sources.pytorch.translate import translate, unknown_operators
from zygal.sources.source import Source, SourceFacts


@contextmanager
def read(path: str | Path, reading: Reading) -> Iterator[Source]:
    """The graph of a trained model's file, with one of its outputs: the one that looks like class scores, unless one is
    named.

    Raises FileError, SourceError or UnknownOperators.
    """
    with open_program(path) as archive:
        program = read_program(archive)
        yield source_of(program, archive, reading, captured_in_training(program))


def facts(path: str | Path, reading: Reading) -> SourceFacts:  # noqa: ARG001
    """What a source says of itself, from its graph alone. Raises FileError or SourceError."""
    with open_program(path) as archive:
        program = read_program(archive)
        return facts_of(program, f"schema {program.schema_version}", captured_in_training(program))


def source_of(program: Program, tensors: TensorBytes, reading: Reading, in_training: bool) -> Source:
    """The graph of a program, whose tensors are read while it is translated."""
    notes = []
    widths = weight_dtypes(program)
    if any(width in ("float16", "bfloat16", "float64") for width in widths):
        notes.append(f"the weights are {', '.join(widths)}; the artifact computes in float32")
    chosen = scores_choice(program, reading.output, reading.classes)
    translation = translate(program, tensors, chosen.name)
    if in_training and IN_TRAINING not in translation.notes:
        notes.append(IN_TRAINING)
    return Source(
        path=program.path,
        framework="PyTorch",
        framework_version=program.framework_version,
        graph=translation.graph,
        output_names=program.output_names,
        chosen=chosen,
        notes=(*notes, *translation.notes),
    )


def facts_of(program: Program, file_format: str, in_training: bool) -> SourceFacts:
    """What a program says of itself."""
    chosen = scores_choice(program)
    made_by = operators_of(program)
    ending = list(operators_before(program.outputs[program.output_names.index(chosen.name)], made_by))
    operators = Counter(call.target.removeprefix("torch.ops.") for call in program.calls)
    return SourceFacts(
        path=program.path,
        framework="PyTorch",
        framework_version=program.framework_version,
        file_format=file_format,
        inputs={name: program.types.get(name) for name in program.inputs},
        outputs={name: program.types.get(value) for name, value in zip(program.output_names, program.outputs)},
        scores=scores_by_operators(ending),
        chosen=chosen,
        softmax_twice=softmax_twice(ending),
        mode="training" if in_training else "evaluation",
        preprocessing=[],
        operators=dict(operators.most_common()),
        unknown_operators=sorted(unknown_operators(program)),
        layers=list(dict.fromkeys(call.layer for call in program.calls)),
        tensors=len(program.tensors),
        parameters=sum(prod(program.tensors[name].sizes) for name in program.trained),
        weight_dtypes=weight_dtypes(program),
        size_bytes=program.path.stat().st_size,
    )


def weight_dtypes(program: Program) -> list[str]:
    """The floating-point dtypes of the stored tensors."""
    names = {program.dtype_names.get(name, "unknown") for name in program.tensors}
    return sorted(name for name in names if "float" in name)
