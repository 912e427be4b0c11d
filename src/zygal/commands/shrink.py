"""zygal shrink: an artifact in lower precision, and what it costs."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any, ClassVar

from zygal.artifact.formats import format_for
from zygal.errors import ArtifactError, OutputError, WitnessError
from zygal.files.outputs import PICTURE, Output, check_outputs
from zygal.files.writing import check_writable
from zygal.listener import SILENT, Listener
from zygal.naming import command_line, found_in_folder, match_command
from zygal.outcome import Outcome
from zygal.request import SCORES_DEFAULT, Request, option, paths_read, refuse_given

if TYPE_CHECKING:
    from zygal.shrink.choose import Budget, Point
    from zygal.shrink.given import Given
    from zygal.shrink.half import Halved
    from zygal.shrink.opened import Opened
    from zygal.shrink.shrink import Result

FEW_IMAGES = 100
MOVES = 0.1
"""Ranges that half of the images would make so much different are not settled."""
AGREE = 0.99


@dataclass(frozen=True, kw_only=True)
class ShrinkRequest(Request):
    """What zygal shrink is asked for."""

    artifact: str = option("the float artifact, ONNX or a mobile flatbuffer", positional=True, metavar="ARTIFACT")
    output: str = option("the file to write, in the same format", short="o", metavar="SMALL", writes=True)
    images: str | None = option(
        "images like those that the model will see, a few hundred; they set the ranges of the activations",
        None,
        metavar="DIR",
        group="images",
        reads=True,
    )
    witness: str | None = option(
        "set the ranges by recorded tensors; with --images, check the images against the recording",
        None,
        metavar="FILE",
        group="images",
        reads=True,
    )
    inlet: str | None = option(
        "use this inlet instead of the one inside the artifact", None, metavar="FILE", group="images", reads=True
    )
    count: int = option(
        "use at most N images, at even places (default: {default})", 200, metavar="N", kind="int", group="images"
    )
    labelled: str | None = option(
        "labelled images, for the loss of accuracy: a folder with one sub-folder per class, or a CSV",
        None,
        metavar="DIR|CSV",
        group="images",
        reads=True,
    )
    scores: str | None = option(
        f"the output of the artifact to use, if it has several ({SCORES_DEFAULT})", None, metavar="NAME", group="images"
    )
    agree: float | None = option(
        "at least this share of the images keeps its top-1 class (default, without a budget: 99%%)",
        None,
        metavar="SHARE",
        kind="share of one",
        group="budget (layers stay in float until it is met)",
    )
    lose: float | None = option(
        "at most this much accuracy is lost on --labelled, like 0.5%%",
        None,
        metavar="SHARE",
        kind="share of one",
        group="budget (layers stay in float until it is met)",
    )
    speed: float | None = option(
        "at least so many times as fast as the float artifact, like 2x",
        None,
        metavar="TIMES",
        kind="factor",
        group="budget (layers stay in float until it is met)",
    )
    half: bool = option("store the weights as float16 instead: half the file, no speed", False)
    batch: int = option("batch size at which the speed is measured (default: {default})", 1, metavar="N", kind="int")
    threads: int | None = option("number of cores to use (default: all)", None, metavar="N", kind="int")
    draw: str | None = option("draw agreement and speed of what was tried (PNG)", None, metavar="FILE", writes=True)
    listed: int = option("how many layers to list (default: {default})", 8, metavar="N", kind="int")

    def outputs(self) -> list[Output]:
        """The files that are written."""
        drawn = [Output(self.draw, PICTURE)] if self.draw else []
        return [Output(self.output, format_for(self.output).kind), *drawn]


@dataclass(frozen=True, kw_only=True)
class ShrinkOutcome(Outcome):
    """budget: what had to hold. found: of 8 bits; halved: of float16 weights. given: the images. instructions: the
    processor's 8-bit instructions, in words."""

    kind: ClassVar[str] = "zygal.shrink"

    request: ShrinkRequest
    budget: Budget | None
    found: Result | None
    halved: Halved | None
    given: Given
    instructions: tuple[str, ...]

    @property
    def final(self) -> Point | None:
        """What was chosen; None with --half."""
        return self.found.choice.final if self.found else None

    @property
    def conclusions(self) -> tuple[str, ...]:
        """See `Outcome.conclusions`."""
        if self.final is None or not self.final.speed or self.final.speed.value >= 1:
            return ()
        return (
            "8 bits do not pay here: the float artifact is faster on this machine at this batch size. Keep it, or try "
            "--batch 8.",
        )

    def result(self) -> dict[str, Any]:
        """See `Outcome.result`."""
        from zygal.classifier.metadata import EIGHT_BITS, HALF

        request = self.request
        common = {
            "artifact": request.artifact,
            "shrunk": request.output if self.refusal is None else None,
            "precision": HALF if self.halved else EIGHT_BITS,
            "calibrated_on": self.given.where,
            "images": len(self.given.tensors),
        }
        if self.halved:
            return common | asdict(self.halved)
        found = self.found
        return common | {
            "budget": asdict(self.budget),
            "batch_images": request.batch,
            "processor_8_bit_instructions": list(self.instructions),
            "activations": str(found.form.dtype),
            "weight_bits": found.form.weight_bits,
            "channels_equalised": found.equalised,
            "float_bytes": found.float_bytes,
            "chosen": self._point(found.choice.final),
            "nearest": self._point(found.choice.nearest),
            "candidates": [self._point(point) for point in found.choice.points],
            "layers": [
                {
                    "layer": layer.name,
                    "operator": layer.operator,
                    "score_error_alone_of_spread": layer.damage,
                    "seconds_in_8_bits": layer.seconds,
                    "seconds_in_float": layer.float_seconds,
                }
                for layer in found.layers
            ],
            "operators_in_8_bits": found.in_8_bits,
            "layers_in_float": list(found.kept),
            "clipped_share_of_values": dict(found.clipped),
            "largest_change_of_a_range_by_half_the_images": max(found.moved, default=0.0),
        }

    def _point(self, point: Point | None) -> dict[str, Any] | None:
        if point is None:
            return None
        return {
            "name": point.name,
            "kept_in_float": list(point.kept),
            "top_1_agreement": asdict(point.agreement),
            "top_1_agreement_expected": asdict(point.expected),
            "score_error_of_spread": point.error,
            "accuracy_lost": point.lost,
            "speed_times_float": point.speed
            and {"value": point.speed.value, "low": point.speed.low, "high": point.speed.high},
            "bytes": point.size_bytes,
        }


def execute(request: ShrinkRequest, listener: Listener = SILENT) -> ShrinkOutcome:
    """Writes the artifact and the picture. Raises ZygalError; then no artifact is written."""
    from zygal.artifact.inlets import inlet_at
    from zygal.classifier.scores import INDEPENDENT, INDEPENDENT_LOGITS
    from zygal.machine.processor import multiplication
    from zygal.shrink.given import check_alike, labelled
    from zygal.shrink.opened import opened

    _check(request)
    listener.detail(f"reading {request.artifact}")
    with opened(request.artifact, request.output, request.scores) as source:
        facts = source.facts
        inlet = inlet_at(request.inlet) if request.inlet else facts.metadata.inlet
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
