"""A scripted or traced archive as a source, and what it says of itself."""

from __future__ import annotations

import ast
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import replace
from math import prod
from pathlib import Path

from zygal.classifier.choice import Candidate, choose_output
from zygal.classifier.scores import scores_by_operators
from zygal.errors import SourceError
from zygal.files.families import Reading
from zygal.graph import Graph
from zygal.sources.pytorch.reader import facts_of, source_of
from zygal.sources.pytorch.scripted.archive import ScriptedArchive, open_scripted
from zygal.sources.pytorch.scripted.program import program_for, scripted_program
from zygal.sources.pytorch.scripted.signatures import signatures_of
from zygal.sources.pytorch.tensors import SCALAR_TYPES
from zygal.sources.source import Source, SourceFacts

FORMAT = "scripted or traced"
NO_SHAPE = "it does not say of which size its images are; give --shape CHANNELS,HEIGHT,WIDTH"


@contextmanager
def read(path: str | Path, reading: Reading) -> Iterator[Source]:
    """See `zygal.sources.pytorch.reader.read`; the shape of an image must be given."""
    with open_scripted(path) as archive:
        if reading.image_shape is None:
            raise SourceError(f"{path} is a scripted archive: {NO_SHAPE}, or an inlet.")
        found = scripted_program(archive, reading.image_shape)
        source = source_of(found.program, found.tensors, reading, found.in_training)

        def graph_for(count: int) -> Graph | None:
            try:
                other = program_for(archive, reading.image_shape, count)
                return source_of(other.program, other.tensors, reading, other.in_training).graph
            except SourceError:
                return None  # A trace holds the number of images that it was made with.

        yield replace(source, graph_for=graph_for)


def facts(path: str | Path, reading: Reading) -> SourceFacts:
    """What an archive says of itself: with the shape of an image all that a captured program says, without it what
    stands in the archive. Raises FileError or SourceError."""
    with open_scripted(path) as archive:
        if reading.image_shape is None:
            return _facts_without_shapes(archive)
        found = scripted_program(archive, reading.image_shape)
        return facts_of(found.program, FORMAT, found.in_training)


def _facts_without_shapes(archive: ScriptedArchive) -> SourceFacts:
    operators = _operators_in(archive)
    stored = archive.tensors.values()
    trained = [each for each in stored if each.requires_grad] or [
        each for each in stored if _is_float(each.scalar_type)
    ]
    return SourceFacts(
        path=archive.path,
        framework="PyTorch",
        framework_version=f"archive version {archive.version}",
        file_format=FORMAT,
        inputs={"images": None},
        outputs={"output": None},
        scores=scores_by_operators([]),
        chosen=choose_output(str(archive.path), [Candidate("output", None, None)], None, None),
        softmax_twice=False,
        mode=None,  # Whether the code asks for it is known when it is followed.
        preprocessing=[],
        operators=dict(operators.most_common()),
        unknown_operators=[],
        layers=[],
        tensors=len(archive.tensors),
        parameters=sum(prod(each.sizes) for each in trained),
        weight_dtypes=sorted({SCALAR_TYPES[each.scalar_type] for each in stored if _is_float(each.scalar_type)}),
        size_bytes=archive.path.stat().st_size,
        why_not=NO_SHAPE,
    )


def _is_float(scalar_type: int) -> bool:
    return "float" in SCALAR_TYPES[scalar_type]


def _operators_in(archive: ScriptedArchive) -> Counter:
    """The operators that the code names, and how often; each function counts once, however often it is called."""
    found = Counter()
    for function in archive.code.functions.values():
        for node in ast.walk(function):
            if isinstance(node, ast.Attribute) and isinstance(node.value, ast.Name) and node.value.id == "torch":
                found[f"aten.{node.attr}"] += bool(signatures_of(node.attr.rstrip("_")) or signatures_of(node.attr))
    return +found
