"""zygal match on a service: what is checked of it beyond the gates of an artifact."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from zygal.errors import EndpointError
from zygal.outcome import Gate

if TYPE_CHECKING:
    from zygal.artifact.facts import Artifact
    from zygal.commands.match.request import MatchRequest
    from zygal.endpoint.engine import EndpointEngine
    from zygal.evidence.result import Match
    from zygal.evidence.witness import Witness


@dataclass(frozen=True)
class Served:
    """What is checked of a service beyond the gates of an artifact."""

    gates: tuple[Gate, ...] = ()
    notes: tuple[str, ...] = ()
    cause: str | None = None


def engine_at(request: MatchRequest, facts: Artifact | None) -> EndpointEngine:
    """The service that the request names, as an engine. Raises EndpointError."""
    from zygal.endpoint.engine import EndpointEngine

    if facts is not None and facts.metadata.tensor is not None:
        raise EndpointError(
            f"{request.artifact} takes raw pixels, so the recorded tensors cannot be sent to its service; "
            f"compare it on images: zygal tally with --endpoint."
        )
    return EndpointEngine(request.endpoint, request.timeout, request.scores or (facts.chosen.name if facts else None))


def check_service(
    request: MatchRequest, engine: EndpointEngine, facts: Artifact | None, witness: Witness, found: Match
) -> Served:
    """E: the service against the artifact that it should serve. V: which versions answered. And why scores differ."""
    from zygal.commands.match.service_causes import explain, other_file
    from zygal.evidence.match import served_gates
    from zygal.evidence.result import elsewhere_limit

    local = None
    if facts is not None:
        from zygal.engines.artifact import open_engine

        local = open_engine(facts)
    traffic, wanted = engine.service.traffic, engine.service.version
    limit = (
        elsewhere_limit(facts is not None and facts.metadata.in_8_bits)
        if request.endpoint_limit is None
        else request.endpoint_limit
    )
    gates, local_matches = served_gates(engine, local, witness, found.spread, request.model_limit, limit)
    others = {version: count for version, count in traffic.versions.items() if wanted is not None and version != wanted}
    notes = engine.service.notes()
    if wanted is not None:
        gates = (
            *gates,
            Gate(
                "V",
                f"service: answers by another version than {wanted}",
                sum(others.values()),
                0,
                f"of {sum(traffic.versions.values())} answers",
            ),
        )
    elif len(traffic.versions) > 1:
        notes.append(
            f"several versions of the model answered ({', '.join(traffic.versions)}); name one in the URL: "
            f".../versions/VERSION"
        )
    cause = None
    if witness.tensors is not None and any(
        not gate.passes and gate.name in ("B", "E") for gate in (*found.gates, *gates)
    ):
        cause = explain(engine, witness.tensors, witness.scores, found.spread)
        if cause is None and found.score_cause is None and local_matches:
            cause = other_file(list(traffic.versions))
    return Served(tuple(gates), tuple(notes), cause)
