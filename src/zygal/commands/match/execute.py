"""zygal match: an artifact and its preprocessing against a recording of the training framework."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from zygal.commands.match.outcome import MatchOutcome
from zygal.commands.match.request import MatchRequest
from zygal.commands.match.rounding import examined, notes_on
from zygal.endpoint import check_timeout
from zygal.errors import OutputError, WitnessError
from zygal.files.outputs import check_outputs
from zygal.listener import SILENT, Listener
from zygal.naming import class_name, match_command, recover_command, sibling
from zygal.request import paths_read, refuse_unused, refuse_without

if TYPE_CHECKING:
    from zygal.artifact.facts import Artifact
    from zygal.evidence.result import Match
    from zygal.evidence.witness import Witness
    from zygal.inlet import Inlet


def execute(request: MatchRequest, listener: Listener = SILENT) -> MatchOutcome:
    """Compares, and writes the corrected inlet and the sheet if asked for. Raises ZygalError."""
    from zygal.artifact.formats import read_artifact
    from zygal.artifact.inlets import inlet_at
    from zygal.commands.match.service import Served, check_service, engine_at
    from zygal.engines.artifact import open_engine
    from zygal.evidence.match import Limits, match
    from zygal.evidence.witness import read_witness

    _check(request)
    listener.detail(f"reading {request.artifact or request.endpoint} and {request.witness}")
    facts = read_artifact(request.artifact, request.scores) if request.artifact else None
    recorded = read_witness(request.witness)
    engine = engine_at(request, facts) if request.endpoint else open_engine(facts)
    witness = recorded.fed_as(engine.input_shape)
    inlet = inlet_at(request.inlet) if request.inlet else facts.metadata.inlet if facts else None
    labels = facts.metadata.labels if facts else None
    shrunk = facts.metadata.shrunk if facts else None
    _refuse_idle_limits(request, recorded, shrunk is not None)
    limits = Limits(
        request.tensor_limit,
        request.model_limit,
        request.end_limit,
        shrunk is not None,
        request.agree_limit,
        request.order_limit,
    )
    found = match(engine, witness, inlet, request.images, limits, listener.step, labels)
    rounding, why_not = (
        (None, "") if request.endpoint or facts is None else examined(request, facts, witness, found, listener)
    )
    served = check_service(request, engine, facts, witness, found) if request.endpoint else Served()
    written = []
    if request.write_inlet and found.cause:
        written.append(_write_inlet(request.write_inlet, found.cause.inlet))
    if request.sheet and _draw_sheet(found, request, witness, inlet, labels):
        written.append(request.sheet)
    return MatchOutcome(
        request=request,
        runtime=engine.name,
        recorded=len(witness.images),
        framework=f"{witness.framework} {witness.framework_version}".strip(),
        labels=labels,
        found=found,
        shrunk=shrunk,
        service_cause=served.cause,
        rounding=rounding,
        one_origin=bool(request.images) and _one_origin(inlet, witness),
        gates=(*found.gates, *served.gates),
        notes=(
            *notes_on(rounding, why_not, found),
            *_notes(request, found, witness, inlet, witness is not recorded, facts),
            *served.notes,
        ),
        unreadable=found.unreadable,
        written=tuple(written),
        next_step=_next_step(request, inlet, found, witness.tensors is not None),
    )


def _check(request: MatchRequest) -> None:
    if request.artifact is None and request.endpoint is None:
        raise OutputError("name the artifact to check, or a service with --endpoint URL.")
    check_timeout(request.timeout)
    refuse_without(request, OutputError)
    if request.worst < 0:
        raise OutputError(f"--worst must be at least 0 (got {request.worst}).")
    for name, why in (
        ("sheet", "shows the images"),
        ("inlet", "preprocesses the images"),
        ("write_inlet", "is found with the images"),
    ):
        if getattr(request, name) and request.images is None:
            raise WitnessError(f"--{name.replace('_', '-')} {why}, so it needs --images DIR.")
    check_outputs(request.outputs(), request.overwrite, paths_read(request))


def _refuse_idle_limits(request: MatchRequest, witness: Witness, shrunk: bool) -> None:
    """Raises OutputError for a limit that no gate has."""
    if witness.tensors is None:
        idle = ("tensor_limit", "model_limit", "own_rounding")
        refuse_unused(request, idle, f"{request.witness} holds no tensors", OutputError)
    idle = ("model_limit", "end_limit") if shrunk else ("agree_limit", "order_limit")
    precision = "in lower precision, so it is judged by its predictions" if shrunk else "not in lower precision"
    refuse_unused(request, idle, f"the artifact is {precision}", OutputError)
    if request.endpoint_limit is not None and request.artifact is None:
        refuse_unused(request, "endpoint_limit", "no artifact is named that the service should serve", OutputError)


def _one_origin(inlet: Inlet | None, witness: Witness) -> bool:
    """Whether the inlet was recovered on the very images that it is now held against."""
    return inlet is not None and inlet.recovered_on is not None and inlet.recovered_on == witness.images_sha256()


def _notes(
    request: MatchRequest, found: Match, witness: Witness, inlet: Inlet | None, transposed: bool, facts: Artifact | None
) -> tuple[str, ...]:
    origin = facts.metadata.origin if facts else None
    notes = [facts.chosen.note(list(facts.outputs))] if facts and facts.chosen.reason else []
    if origin and witness.source_sha256 and origin.source_sha256 != witness.source_sha256:
        other = "" if witness.source == origin.source else f", {witness.source}"
        notes.append(
            f"the artifact was made from {origin.source}, but the witness recorded a file with other bytes{other}"
        )
    if transposed:
        notes.append("the recorded tensors were transposed to the layout of the artifact's input")
    notes += found.notes
    if _one_origin(inlet, witness) and request.images:
        notes.append(
            "the inlet was recovered on the images of this witness, so that A and C pass proves little; match "
            "with a witness of other images"
        )
    if request.write_inlet and not found.cause:
        notes.append(f"{request.write_inlet} is not written, because there is no corrected inlet")
    return tuple(notes)


def _write_inlet(path: str, inlet: Inlet) -> str:
    from zygal.files.writing import write_text
    from zygal.inlet import format_inlet

    write_text(path, format_inlet(inlet))
    return path


def _draw_sheet(found: Match, request: MatchRequest, witness: Witness, inlet: Inlet | None, labels) -> bool:
    """Whether there was an image to draw."""
    import numpy as np

    from zygal.errors import ImageError
    from zygal.evidence.compare import tensor_differences
    from zygal.evidence.figure import SheetRow, draw_sheet
    from zygal.inlet import apply_inlet
    from zygal.inlet.decode import open_image

    index_of = {image.name: index for index, image in enumerate(witness.images)}
    rows = []
    for image in found.images[: max(request.worst, 1)]:
        path = Path(request.images) / image.name
        try:
            picture = np.asarray(open_image(path).convert("RGB"))
        except ImageError:
            continue
        difference = None
        if image.tensor_difference_grey_levels is not None:
            levels = tensor_differences(
                apply_inlet(path, inlet), witness.tensors[index_of[image.name]], inlet.tensor.layout
            )
            difference = levels.max(axis=0 if inlet.tensor.layout == "NCHW" else 2)
        tops = [
            [(class_name(i, labels), score) for i, score in top] for top in (image.recorded_top, image.artifact_top)
        ]
        rows.append(SheetRow(image.name, picture, *tops, difference, image.score_difference))
    if rows:
        draw_sheet(
            rows,
            f"{request.endpoint or request.artifact} and {request.witness}: the images that differ most",
            request.sheet,
        )
    return bool(rows)


def _next_step(request: MatchRequest, inlet: Inlet | None, found: Match, has_tensors: bool) -> str | None:
    """What to run next: find the missing or the wrong half."""
    if request.endpoint:
        return None
    folder = request.images or "DIR"
    by_scores = [] if has_tensors else ["--artifact", request.artifact]
    if inlet is None:
        return recover_command(request.witness, folder, sibling(request.artifact, ".inlet.toml"), *by_scores)
    if request.images is None:
        return match_command(request.artifact, request.witness, folder)
    failed = {gate.name for gate in found.gates if not gate.passes}
    recovered = sibling(request.artifact, ".recovered.inlet.toml")
    if not has_tensors and "C" in failed and found.score_cause is None:
        return recover_command(request.witness, folder, recovered, *by_scores)
    if "A" not in failed:
        return None
    if found.cause is None:
        return recover_command(request.witness, folder, recovered)
    if request.write_inlet:
        options = ["--inlet", request.write_inlet]
    else:
        given = ["--inlet", request.inlet] if request.inlet else []
        options = [*given, "--write-inlet", sibling(request.artifact, ".corrected.inlet.toml")]
    return match_command(request.artifact, request.witness, folder, *options)
