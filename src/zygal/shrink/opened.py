"""The float artifact, opened for shrinking: its graph, and how its like is written again."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, replace
from pathlib import Path

from zygal.artifact.facts import Artifact
from zygal.artifact.formats import DEFAULT_OPSET, ONNX, Format, Writing, Written, format_for, format_of, read_artifact
from zygal.classifier.metadata import Metadata
from zygal.errors import ArtifactError
from zygal.graph import Graph
from zygal.graph.build import joined
from zygal.graph.passes.dead import remove_dead
from zygal.shrink.form import MOBILE_FORM, Form, onnx_form


@dataclass(frozen=True)
class Opened:
    """graph: of the model, without the inlet of an artifact that takes raw pixels. format: of the artifact."""

    facts: Artifact
    format: Format
    graph: Graph

    def form(self) -> Form:
        """The form of 8-bit numbers that suits the format and this processor."""
        from zygal.machine.processor import multiplication

        return onnx_form(multiplication()) if self.format is ONNX else MOBILE_FORM

    def writing(self, graph: Graph, half: bool = False) -> Writing:
        """How the graph is written: in ONNX with the artifact's own opset, or the lowest that has all its operators."""
        if self.format is not ONNX:
            return Writing(half=half)
        from zygal.artifact.onnx.spelling import lowest_opset

        return Writing(max(self.facts.opset or DEFAULT_OPSET, lowest_opset(graph)), half)

    def write(self, graph: Graph, path: str | Path, metadata: Metadata, half: bool = False) -> Written:
        """Writes a graph of the model with everything that the artifact has: its inlet in front, if it takes raw
        pixels. Raises ArtifactError or OutputError."""
        if self.facts.metadata.tensor is None:
            return self.format.write(graph, path, metadata, self.writing(graph, half))
        from zygal.inlet.front import front_of

        (name,) = self.facts.inputs
        whole = joined(front_of(metadata.inlet, name, metadata.tensor), graph)
        return self.format.write(whole, path, metadata, replace(self.writing(whole, half), raw_pixels=True))


@contextmanager
def opened(
    path: str | Path, output_path: str | Path, scores: str | None = None, image_shape: tuple[int, ...] | None = None
) -> Iterator[Opened]:
    """image_shape: of one image's tensor, for an artifact that leaves it open. Raises FileError or ArtifactError;
    so if the artifact was shrunk before."""
    format = format_of(path)
    wanted = format_for(output_path)
    if wanted is not format:
        raise ArtifactError(
            f"{path} is of the format {format.name}, but the name {output_path} asks for {wanted.name}; convert "
            f"the source to that format, and shrink it then."
        )
    facts = read_artifact(path, scores)
    if facts.metadata.in_8_bits:
        raise ArtifactError(
            f"{path} is in 8 bits already, made from {facts.metadata.shrunk.artifact}; shrink that one."
        )
    if format is ONNX:
        from zygal.sources.onnx.translate import artifact_graph

        yield Opened(facts, format, _of_scores(artifact_graph(path, image_shape), facts))
        return
    from zygal.conversion.convert import Choices, read_for_conversion
    from zygal.sources.opened import SourceFile

    with read_for_conversion(SourceFile.of(path), Choices(scores=scores)) as source:
        (name,), (output,) = facts.inputs, (facts.chosen.name,)
        graph = _of_scores(source.graph, facts) if len(source.graph.outputs) > 1 else source.graph
        yield Opened(facts, format, graph.renamed({graph.inputs[0]: name, graph.outputs[0]: output}))


def _of_scores(graph: Graph, facts: Artifact) -> Graph:
    """The part of a graph that makes the scores."""
    if len(graph.inputs) != 1:
        raise ArtifactError(
            f"{facts.path} takes {len(graph.inputs)} inputs ({', '.join(graph.inputs)}); an image classifier takes one."
        )
    return remove_dead(replace(graph, outputs=(facts.chosen.name,)))
