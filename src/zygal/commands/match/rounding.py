"""When a match computes the artifact in float64, and on which recorded tensors."""

from __future__ import annotations

from typing import TYPE_CHECKING

from zygal.commands.match.sentences import rounding_sentence
from zygal.errors import ZygalError
from zygal.listener import Listener
from zygal.wording import counted

if TYPE_CHECKING:
    from zygal.artifact.facts import Artifact
    from zygal.commands.match.request import MatchRequest
    from zygal.evidence.result import Match
    from zygal.evidence.rounding import OwnRounding
    from zygal.evidence.witness import Witness

NEAR = 10.0
"""A difference within so many times of B's limit is looked into."""
MOST_SECONDS = 20.0


def examined(
    request: MatchRequest, facts: Artifact, witness: Witness, found: Match, listener: Listener
) -> tuple[OwnRounding | None, str]:
    """What of B's difference is the model's own rounding, where B fails, is near its limit, or it is asked for; else
    why that is not known."""
    gates = [gate for gate in found.gates if gate.name == "B"]
    near = any(
        gate.measured is None or not gate.measured <= gate.limit / NEAR
        for gate in gates
        if gate.unit == "of the spread"
    )
    if not gates or not (request.own_rounding or near or not all(gate.passes for gate in gates)):
        return None, ""
    if facts.metadata.shrunk is not None or facts.metadata.tensor is not None:
        return (
            None,
            "own rounding: not computed, because the artifact "
            f"{'is in lower precision' if facts.metadata.shrunk else 'takes raw pixels'}",
        )
    import numpy as np

    from zygal.evidence.rounding import images_to_look_at, own_rounding
    from zygal.files.recognition import kind_of
    from zygal.outline.cost import multiply_adds
    from zygal.outline.opened import graph_at

    try:
        graph = graph_at(request.artifact, kind_of(request.artifact))
        if any(array.dtype == np.float16 for array in graph.constants.values()):
            return None, "own rounding: not computed, because the artifact's weights are float16"
        chosen, seconds = images_to_look_at(
            found.model.differences, sum(multiply_adds(graph, node) for node in graph.nodes), MOST_SECONDS
        )
        listener.note(
            f"computing {counted(len(chosen), 'recorded tensor')} in float64 to tell a wrong conversion from "
            f"rounding, which takes about {max(seconds, 1):.0f} s"
        )
        return own_rounding(
            graph, witness.tensors[chosen], witness.scores[chosen], found.model.scores[chosen], found.spread
        ), ""
    except ZygalError as fault:
        return None, f"own rounding: not computed, because {fault}"


def notes_on(rounding: OwnRounding | None, why_not: str, found: Match) -> list[str]:
    """Where B passes, what its difference is; where it fails this is among the causes."""
    if why_not:
        return [why_not]
    if rounding is None or any(gate.name == "B" and not gate.passes for gate in found.gates):
        return []
    return [rounding_sentence(rounding)]
