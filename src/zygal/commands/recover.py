"""zygal inlet recover: the whole preprocessing, recovered from a recording and the image files."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any, ClassVar

from zygal import kinds
from zygal.errors import WitnessError
from zygal.listener import SILENT, Listener
from zygal.naming import command_line, found_in_folder, match_command
from zygal.outcome import Gate, Outcome
from zygal.outputs import Output, check_outputs

if TYPE_CHECKING:
    from zygal.evidence.witness import Witness
    from zygal.inlet import Inlet
    from zygal.inlet.recovery.by_scores import ScoreRecovery
    from zygal.inlet.recovery.recover import Recovery

EXACT = 0.02
"""Grey levels below which an inlet gives the recorded tensors but for float32 rounding."""


@dataclass(frozen=True, kw_only=True)
class RecoverRequest:
    """artifact: for a witness without tensors, the model whose scores guide the search. accept: largest difference of the
    tensors, in grey levels, with which an inlet is accepted. accept_scores: the same for scores, as a part of their spread."""

    witness: str
    images: str
    output: str
    artifact: str | None = None
    accept: float = 0.5
    accept_scores: float = 0.05
    overwrite: bool = False

    def outputs(self) -> list[Output]:
        return [Output(self.output, kinds.INLET)]


@dataclass(frozen=True, kw_only=True)
class RecoverOutcome(Outcome):
    """Exactly one of by_tensors and by_scores is there. The inlet is written only if the gate passes."""

    kind: ClassVar[str] = "zygal.inlet-recover"

    request: RecoverRequest
    by_tensors: Recovery | None = None
    by_scores: ScoreRecovery | None = None

    @property
    def inlet(self) -> Inlet:
        return (self.by_tensors or self.by_scores).inlet

    @property
    def match_quality(self) -> str:
        """How good the recovered inlet is, in one word or two."""
        residual = self.by_tensors.residual
        return "exact" if residual < EXACT else "within rounding" if residual <= 0.5 else "not exact"

    def result(self) -> dict[str, Any]:
        found = self.by_tensors or self.by_scores
        return {
            "witness": self.request.witness,
            "images_from": self.request.images,
            "inlet": asdict(found.inlet),
            "images": found.images,
            "inlets_tried": found.tried,
            "by_tensors": self._by_tensors() if self.by_tensors else None,
            "by_scores": self._by_scores() if self.by_scores else None,
        }

    def _by_tensors(self) -> dict[str, Any]:
        found = self.by_tensors
        second = found.runner_up
        return {
            "max_error_grey_levels": found.residual,
            "mean_error_grey_levels": found.mean_residual,
            "second_best": second and dict(zip(("field", "value", "max_error_grey_levels"), second)),
            "not_determined": [asdict(each) for each in found.undecided],
        }

    def _by_scores(self) -> dict[str, Any]:
        found = self.by_scores
        second = found.runner_up
        return {
            "max_error_of_spread": found.largest,
            "mean_error_of_spread": found.mean,
            "changed_top_1": found.changed_top_1,
            "second_best": second and {"inlet": asdict(second[0]), "mean_error_of_spread": second[1]},
        }


def execute(request: RecoverRequest, listener: Listener = SILENT) -> RecoverOutcome:
    """Searches, and writes the inlet if it explains the recording. Raises ZygalError."""
    from zygal.evidence.images import check_images
    from zygal.evidence.witness import read_witness
    from zygal.files import write_text
    from zygal.inlet import format_inlet

    check_outputs(request.outputs(), request.overwrite, request)
    witness = read_witness(request.witness)
    notes = check_images(witness.images, request.images)
    paths = [Path(request.images) / image.name for image in witness.images]
    found, gate = _search(request, witness, paths, listener)
    if gate.passes:
        write_text(request.output, format_inlet(found.inlet))
    elif witness.tensors is not None:
        notes.append("the training side may do something that an inlet cannot state, or these are not the images that it saw")
    else:
        notes.append("the artifact may be another model, or the training side may do something that an inlet cannot state")
    return RecoverOutcome(
        request=request,
        gates=(gate,),
        notes=tuple(notes),
        written=(request.output,) if gate.passes else (),
        unreadable=getattr(found, "unreadable", ()),
        next_step=_next_step(request, witness, gate.passes),
        **{"by_tensors" if witness.tensors is not None else "by_scores": found},
    )


def _search(request: RecoverRequest, witness: Witness, paths: list[Path], listener: Listener):
    """What was found, and its gate."""
    if witness.tensors is None:
        found = _recover_by_scores(request, witness, paths, listener)
        return found, Gate("inlet", "largest difference of the scores", found.largest, request.accept_scores, "of the spread")
    from zygal.inlet.recovery import recover_inlet

    found = recover_inlet(paths, witness.tensors, listener.step)
    return found, Gate("inlet", "largest difference of the tensors", found.residual, request.accept, "grey levels")


def _recover_by_scores(request: RecoverRequest, witness: Witness, paths: list[Path], listener: Listener) -> ScoreRecovery:
    import numpy as np

    from zygal.artifact import read_artifact
    from zygal.engines import run_in_batches
    from zygal.engines.runtime import open_engine
    from zygal.inlet.recovery import recover_by_scores

    if not request.artifact:
        raise WitnessError(
            f"{request.witness} holds scores but no tensors; add --artifact FILE, so that inlets can be tried by its scores."
        )
    facts = read_artifact(request.artifact)
    engine = open_engine(facts)
    shape = tuple(engine.input_shape[1:])
    if len(shape) != 3 or not all(isinstance(size, int) for size in shape):
        raise WitnessError(f"{request.artifact} takes {list(engine.input_shape)}, not images of one fixed size.")
    _, dtype_and_shape = next(iter(facts.inputs.items()))
    dtype = facts.metadata.inlet.tensor.dtype if facts.metadata.tensor else dtype_and_shape[0]

    def scores(tensors: np.ndarray) -> np.ndarray:
        return np.concatenate(list(run_in_batches(engine, tensors)))

    return recover_by_scores(paths, witness.scores, scores, shape, dtype, listener.step)


def _next_step(request: RecoverRequest, witness: Witness, passed: bool) -> str:
    if not passed:
        source = witness.source if witness.source != "unknown" else "SOURCE"
        return command_line("zygal", "witness", source, "--images", request.images, "--training-code", "FILE.py:FUNCTION",
                            "-o", request.witness)  # fmt: skip
    artifact = request.artifact or found_in_folder(request.witness, "*.onnx", "ARTIFACT")
    return match_command(artifact, request.witness, request.images, "--inlet", request.output)
