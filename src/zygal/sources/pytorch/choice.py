"""Which output of a captured program are the class scores."""

from __future__ import annotations

from typing import TYPE_CHECKING

from zygal.classifier.choice import Candidate, Choice, choose_output, linear_place

if TYPE_CHECKING:
    from zygal.sources.pytorch.program import Program


def scores_choice(program: Program, named: str | None = None, classes: int | None = None) -> Choice:
    """The output of that name, else the one that looks like class scores. Raises SourceError if there is none of that
    name."""
    made_by = operators_of(program)
    places = {result: place for place, call in enumerate(program.calls) for result in call.results}
    candidates = []
    for name, value in zip(program.output_names, program.outputs):
        candidates.append(Candidate(name, program.types.get(value), linear_place(value, made_by, places)))
    return choose_output(str(program.path), candidates, named, classes)


def output_place(program: Program, name: str) -> int:
    """The place of an output among all that the program returns."""
    return program.output_places[program.output_names.index(name)]


def operators_of(program: Program) -> dict[str, tuple[str, list[str]]]:
    """The operator and the tensors that it reads, for each value of the program."""
    return {
        name: (call.target.removeprefix("torch.ops.aten.").partition(".")[0], call.tensors_read())
        for call in program.calls
        for name in call.results
    }
