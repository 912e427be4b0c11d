"""zygal shrink: an artifact in lower precision, and what it costs."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from zygal.commands.shrink.outcome import ShrinkOutcome
from zygal.commands.shrink.request import ShrinkRequest
from zygal.errors import ArtifactError, OutputError, WitnessError
from zygal.files.outputs import check_outputs
from zygal.files.writing import check_writable
from zygal.listener import SILENT, Listener
from zygal.naming import command_line, found_in_folder, match_command
from zygal.request import paths_read, refuse_given

if TYPE_CHECKING:
    from zygal.shrink.choose import Budget
    from zygal.shrink.given import Given
    from zygal.shrink.opened import Opened
    from zygal.shrink.shrink import Result


FEW_IMAGES = 100


MOVES = 0.1
"""Ranges that half of the images would make so much different are not settled."""


AGREE = 0.99


def execute(request: ShrinkRequest, listener: Listener = SILENT) -> ShrinkOutcome:
    """Writes the artifact and the picture. Raises ZygalError; then no artifact is written."""
    from zygal.artifact.inlets import inlet_at
    from zygal.classifier.scores import INDEPENDENT, INDEPENDENT_LOGITS
    from zygal.inlet.sizes import tensor_shape
    from zygal.machine.processor import multiplication
    from zygal.shrink.given import check_alike, labelled
    from zygal.shrink.opened import opened

    _check(request)
    listener.detail(f"reading {request.artifact}")
    stated = inlet_at(request.inlet) if request.inlet else None
    shape = tensor_shape(stated) if stated is not None else None
    with opened(request.artifact, request.output, request.scores, shape) as source:
        facts = source.facts
        inlet = stated or facts.metadata.inlet
        given, recorded = _given(request, source, inlet, listener)
        check_alike(given, recorded, facts.metadata.inlet if recorded is None else None)
        _check_shape(source, given, request)
        known = None
        if request.labelled:
            known = labelled(
                request.labelled, facts, inlet, facts.scores in (INDEPENDENT, INDEPENDENT_LOGITS), listener
            )
        instructions = multiplication().instructions
        common = {"request": request, "given": given, "instructions": instructions}
        unreadable = (*given.unreadable, *(known.unreadable if known else ()))
        if request.half:
            return _halved(request, source, given, unreadable, common)
        return _in_eight_bits(request, source, given, known, unreadable, common, listener)


def _check(request: ShrinkRequest) -> None:
    if request.images is None and request.witness is None:
        raise OutputError(
            "give --images DIR (a few hundred images like those that the model will see) or --witness FILE to "
            "calibrate with."
        )
    for name, least in (("count", 1), ("batch", 1), ("threads", 1), ("listed", 0)):
        value = getattr(request, name)
        if value is not None and value < least:
            raise OutputError(f"--{name} must be at least {least} (got {value}).")
    if request.lose is not None and not request.labelled:
        raise OutputError("--lose is measured on labelled images, so it needs --labelled DIR|CSV.")
    if request.half:
        refuse_given(
            request,
            ("agree", "lose", "speed", "labelled", "draw"),
            "--half, which has no layers to choose",
            OutputError,
        )
    check_outputs(request.outputs(), request.overwrite, paths_read(request))
    for output in request.outputs():
        check_writable(output.path)


def _given(request: ShrinkRequest, source: Opened, inlet, listener: Listener):
    """The tensors that calibrate, and the recording, if one is given."""
    from zygal.evidence.witness import read_witness
    from zygal.inlet.sizes import tensor_shape
    from zygal.shrink.given import from_images, from_witness

    recorded = None
    if request.witness:
        (_, shape), *_ = source.facts.inputs.values()
        fed = ("N", *tensor_shape(inlet)) if source.facts.metadata.tensor is not None and inlet else shape
        recorded = read_witness(request.witness).fed_as(fed)
    if request.images:
        return from_images(request.images, inlet, request.count, listener), recorded
    return from_witness(recorded, request.witness, request.count), None


def _check_shape(source: Opened, given: Given, request: ShrinkRequest) -> None:
    """Raises WitnessError if the tensors are none that the model takes."""
    type = source.graph.types[source.graph.inputs[0]]
    found = given.tensors.shape[1:]
    if tuple(type.shape[1:]) != found or type.dtype != given.tensors.dtype:
        raise WitnessError(
            f"{request.artifact} takes tensors {type}, but those from {given.where} are {given.tensors.dtype} "
            f"{list(found)}; use the inlet of this model."
        )


def _in_eight_bits(
    request, source: Opened, given: Given, known: Given | None, unreadable, common, listener: Listener
) -> ShrinkOutcome:
    from zygal.shrink.choose import Budget
    from zygal.shrink.shrink import Settings, shrink

    nothing_asked = request.agree is None and request.lose is None and request.speed is None
    budget = Budget(AGREE if nothing_asked else request.agree, request.lose, request.speed)
    settings = Settings(budget, request.threads, request.batch)
    found = shrink(source, request.output, given, known, settings, _described(budget), listener.step)
    written = [request.output] if found.written else []
    if request.draw:
        from zygal.shrink.figure import draw_trade_off

        draw_trade_off(found, budget, request.artifact, request.batch, request.draw)
        written.append(request.draw)
    return ShrinkOutcome(
        **common,
        budget=budget,
        found=found,
        halved=None,
        notes=_notes(source, given, found, common["instructions"]),
        unreadable=unreadable,
        written=tuple(written),
        next_step=_next_step(request) if found.written else None,
        refusal=None if found.written else _refusal(budget, found),
    )


def _halved(request, source: Opened, given: Given, unreadable, common) -> ShrinkOutcome:
    from zygal.shrink.half import halve

    halved = halve(source, request.output, given, request.threads)
    return ShrinkOutcome(
        **common,
        budget=None,
        found=None,
        halved=halved,
        unreadable=unreadable,
        written=(request.output,),
        next_step=_next_step(request),
    )


def _described(budget: Budget) -> str:
    """The budget in words."""
    from zygal.wording import percent, short_number

    parts = [f"top-1 agreement at least {percent(budget.agree)}"] if budget.agree is not None else []
    parts += [f"at most {percent(budget.lose)} of accuracy lost"] if budget.lose is not None else []
    parts += [f"at least {short_number(budget.speed)} times as fast"] if budget.speed is not None else []
    return ", ".join(parts)


def _refusal(budget: Budget, found: Result) -> ArtifactError:
    from zygal.wording import percent, points, short_number

    near = found.choice.nearest
    lost = f", loses {points(near.lost, signed=False)} points of accuracy" if near.lost is not None else ""
    speed = f", and is {short_number(near.speed.value)} times as fast" if near.speed else ""
    return ArtifactError(
        f"no choice of layers holds the budget ({_described(budget)}); the nearest keeps {len(near.kept)} "
        f"operators in float, agrees on {percent(near.agreement.value)}{lost}{speed}; nothing "
        "was written. Ask for less, or calibrate with more images."
    )


def _notes(source: Opened, given: Given, found: Result, instructions: tuple[str, ...]) -> tuple[str, ...]:
    """What the reader must know of the images, the processor and the ranges."""
    from zygal.artifact.formats import ONNX
    from zygal.wording import percent

    notes = []
    facts = source.facts
    if len(facts.outputs) > 1:
        notes.append(f"the shrunk artifact has the output {facts.chosen.name} alone")
    if source.format is ONNX and not instructions:
        bits = (
            f"; its weights have {found.form.weight_bits} bits, so that sums of two products fit into 16 bits"
            if found.form.weight_bits < 8
            else ""
        )
        notes.append(
            f"this processor has no instructions that add 8-bit products in 32 bits{bits}; 8 bits may bring no "
            f"speed here: see zygal bench"
        )
    if len(given.tensors) < FEW_IMAGES:
        notes.append(
            f"only {len(given.tensors)} images calibrate; a few hundred give steadier ranges and a narrower "
            f"interval of the agreement"
        )
    moved = max(found.moved, default=0.0)
    if moved > MOVES:
        notes.append(
            f"half of the images would change one range by {percent(moved)}, so more images would change the ranges"
        )
    return tuple(notes)


def _next_step(request: ShrinkRequest) -> str:
    witness = request.witness or found_in_folder(request.artifact, "*.witness", "")
    if witness:
        images = request.images if request.images and request.witness else None
        folder = Path(witness).parent
        return match_command(
            request.output,
            witness,
            images or next((str(folder / each) for each in ("reference", "images") if (folder / each).is_dir()), "DIR"),
        )
    return command_line("zygal", "bench", request.output, "--compare", request.artifact)
