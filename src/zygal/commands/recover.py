"""zygal inlet recover: the whole preprocessing, recovered from a recording and the image files."""

from __future__ import annotations

from dataclasses import asdict, dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any, ClassVar

from zygal.errors import WitnessError, some_of
from zygal.files import kinds
from zygal.files.outputs import Output, check_outputs
from zygal.listener import SILENT, Listener
from zygal.naming import command_line, found_in_folder, match_command
from zygal.outcome import Gate, Outcome, Verdict
from zygal.request import Request, option, paths_read
from zygal.wording import counted, short_number

if TYPE_CHECKING:
    from zygal.evidence.witness import Witness
    from zygal.inlet import Inlet
    from zygal.inlet.recovery.by_scores import ScoreRecovery
    from zygal.inlet.recovery.groups import Group
    from zygal.inlet.recovery.recover import Recovery

EXACT = 0.02
"""Grey levels below which an inlet gives the recorded tensors but for float32 rounding."""
_SMALL = 3.0
"""Grey levels of which nearly all differences are small enough to be accepted on purpose."""


NOISE_GREY_LEVELS = 3.0
"""Mean difference above which the best inlet is no finding."""


@dataclass(frozen=True, kw_only=True)
class RecoverRequest(Request):
    """What zygal inlet recover is asked for."""

    witness: str = option("the recording of the training framework", metavar="FILE", reads=True)
    images: str = option("folder of the recorded images", metavar="DIR", reads=True)
    output: str = option("the inlet to write (TOML)", short="o", metavar="FILE", writes=True)
    artifact: str | None = option(
        "for a witness without tensors: the model whose scores guide the search", None, metavar="FILE", reads=True
    )
    accept: float = option(
        "difference that 99.9 %% of each tensor's values must keep, in grey levels; the others may be one level "
        "more (default: {default})",
        0.5,
        metavar="LEVELS",
        kind="limit",
    )
    accept_scores: float = option(
        "the same for scores, as a share of their spread (default: 0.05)", 0.05, metavar="SHARE", kind="share"
    )

    def outputs(self) -> list[Output]:
        """The files that are written."""
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
        """The inlet that was found, by tensors or by scores."""
        return (self.by_tensors or self.by_scores).inlet

    @property
    def match_quality(self) -> str:
        """How good the recovered inlet is, in one word or two."""
        residual = self.by_tensors.residual
        return "exact" if residual < EXACT else "within rounding" if not self.failed_gates else "not exact"

    @property
    def found_nothing(self) -> bool:
        """Whether the best inlet fits so badly that it is no finding: its constants were bent to absorb an error."""
        found = self.by_tensors
        nothing = found is not None and not any(each.explained for each in found.per_image)
        return nothing and found.mean_residual > NOISE_GREY_LEVELS

    @property
    def conclusions(self) -> tuple[str, ...]:
        """See `Outcome.conclusions`."""
        if not self.found_nothing:
            return ()
        left = short_number(self.by_tensors.mean_residual)
        return (f"No inlet was found: the nearest that was tried leaves {left} grey levels on average.",)

    def result(self) -> dict[str, Any]:
        """See `Outcome.result`."""
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
            "images_held_back": len(found.held),
            "held_back_max_error_grey_levels": max((each.largest for each in found.held), default=None),
            "not_determined": [asdict(each) for each in found.undecided],
            "library": found.library,
            "error_of_999_in_1000_grey_levels": found.nearly_all,
            "per_image": [
                {
                    "image": each.image,
                    "file_kind": each.kind,
                    "max_error_grey_levels": each.largest,
                    "mean_error_grey_levels": each.mean,
                    "share_above_half_a_level": each.share,
                    "where": each.where,
                    "explained": each.explained,
                }
                for each in found.per_image
            ],
            "groups": [
                {
                    "images": list(each.images),
                    "inlet": each.inlet and asdict(each.inlet),
                    "separated_by": each.separated_by,
                    "changes": [
                        {"field": name, "first_group": str(one), "this_group": str(other)}
                        for name, one, other in each.changes
                    ],
                }
                for each in found.groups
            ],
        }

    def _by_scores(self) -> dict[str, Any]:
        found = self.by_scores
        second = found.runner_up
        return {
            "max_error_of_spread": found.largest,
            "mean_error_of_spread": found.mean,
            "changed_top_1": found.changed_top_1,
            "images_held_back": found.held,
            "held_back_max_error_of_spread": found.held_largest,
            "second_best": second and {"inlet": asdict(second[0]), "mean_error_of_spread": second[1]},
        }


def execute(request: RecoverRequest, listener: Listener = SILENT) -> RecoverOutcome:
    """Searches, and writes the inlet if it explains the recording. Raises ZygalError."""
    from zygal.evidence.witness import read_witness
    from zygal.files.writing import write_text
    from zygal.inlet import format_inlet
    from zygal.inlet.images import check_images

    check_outputs(request.outputs(), request.overwrite, paths_read(request))
    witness = read_witness(request.witness)
    notes = check_images(witness.images, request.images)
    paths = [Path(request.images) / image.name for image in witness.images]
    found, gates = _search(request, witness, paths, listener)
    passed = all(gate.verdict is not Verdict.FAILED for gate in gates)
    if passed:
        notes += _notes_on_proof(found)
        recovered = replace(found.inlet, recovered_on=witness.images_sha256())
        write_text(
            request.output, format_inlet(recovered, _comments(request, found) if witness.tensors is not None else ())
        )
    elif len(getattr(found, "groups", ())) > 1:
        notes += _group_notes(found)
    elif witness.tensors is not None and found.nearly_all <= _SMALL:
        notes.append(
            f"the differences are small; if they do no harm, --accept {found.nearly_all * 1.05:.2g} accepts this inlet"
        )
    elif witness.tensors is not None:
        notes.append(
            "the training side may do something that an inlet cannot state, or these are not the images that it saw"
        )
    else:
        notes.append(
            "the artifact may be another model, or the training side may do something that an inlet cannot state"
        )
    return RecoverOutcome(
        request=request,
        gates=gates,
        notes=tuple(notes),
        written=(request.output,) if passed else (),
        unreadable=getattr(found, "unreadable", ()),
        next_step=_next_step(request, witness, passed),
        **{"by_tensors" if witness.tensors is not None else "by_scores": found},
    )


def _search(request: RecoverRequest, witness: Witness, paths: list[Path], listener: Listener):
    """What was found, and its gates: a library's own rounding may move a few pixels by one level."""
    if witness.tensors is None:
        found = _recover_by_scores(request, witness, paths, listener)
        gates = (
            Gate("inlet", "largest difference of the scores", found.largest, request.accept_scores, "of the spread"),
        )
        if found.held_largest is None:
            return found, gates
        condition = f"largest difference of the scores on {counted(found.held, 'image')} held back"
        return found, (*gates, Gate("held back", condition, found.held_largest, request.accept_scores, "of the spread"))
    from zygal.inlet.recovery import recover_inlet
    from zygal.inlet.recovery.residuals import ONE_LEVEL

    found = recover_inlet(paths, witness.tensors, listener.step)
    return found, (
        Gate(
            "inlet",
            "difference that 99.9 % of each tensor's values keep",
            found.nearly_all,
            request.accept,
            "grey levels",
        ),
        Gate("inlet", "largest difference of the tensors", found.residual, request.accept + ONE_LEVEL, "grey levels"),
        *_held_gates(found, request.accept),
    )


def _held_gates(found: Recovery, accept: float) -> tuple[Gate, ...]:
    """On images that the search did not see. Where all had to be searched with, nothing proves the inlet."""
    from zygal.inlet.recovery.residuals import ONE_LEVEL

    if found.not_held:
        why = (
            f"the inlet found without {some_of([each.image for each in found.not_held if not each.explained])} did not "
            "explain them, so all images were searched with and none was left to prove it"
        )
        off = max(each.largest for each in found.not_held)
        return (
            Gate(
                "held back",
                "largest difference on images held back",
                found.residual,
                accept + ONE_LEVEL,
                "grey levels",
                why,
                low=found.residual,
                high=max(off, accept + 2 * ONE_LEVEL),
                deciding="match with a witness of other images decides it",
            ),
        )
    if not found.held:
        return ()
    images = counted(len(found.held), "image")
    return (
        Gate(
            "held back",
            f"difference that 99.9 % of each tensor's values keep, {images} held back",
            max(each.nearly_all for each in found.held),
            accept,
            "grey levels",
        ),
        Gate(
            "held back",
            f"largest difference of the tensors, {images} held back",
            max(each.largest for each in found.held),
            accept + ONE_LEVEL,
            "grey levels",
        ),
    )


def _notes_on_proof(found: Recovery | ScoreRecovery) -> list[str]:
    if getattr(found, "not_held", ()) or found.held:
        return []
    return [
        f"{counted(found.images, 'image')} are too few to hold some back, so nothing but these images says that "
        f"the inlet is right; match with a witness of others"
    ]


def _group_notes(found: Recovery) -> list[str]:
    """What each group of images needs, and what separates them."""
    from zygal.inlet.description import describe_value

    first, *others = found.groups
    notes = [f"the inlet shown explains {_group(first)}"]
    for each in others:
        if each.inlet is None:
            notes.append(f"no inlet was found for {_group(each)}")
            continue
        changes = ", ".join(f"{name} = {describe_value(other)}" for name, _, other in each.changes)
        notes.append(f"with {changes} it explains {_group(each)}")
    if any(each.inlet for each in others):
        notes.append(
            "one inlet cannot state a choice by image; preprocess the images of each group by an inlet of its own"
        )
    return notes


def _group(group: Group) -> str:
    """The images of a group in words, with what separates them from the others if that is known."""
    names = group.images
    shown = ", ".join(names) if len(names) <= 3 else f"{', '.join(names[:2])} and {len(names) - 2} more images"
    if group.separated_by is None:
        return shown
    return (
        f"{shown} (each {group.separated_by}, the others do not)"
        if len(names) > 1
        else f"{shown} (it {group.separated_by})"
    )


def _comments(request: RecoverRequest, found: Recovery) -> list[str]:
    """What a reader of the inlet's file should know: how well it fits, whose convention it is, what is not
    determined."""
    from zygal.inlet.description import describe_value

    lines = [
        f"Recovered by zygal inlet recover from {Path(request.witness).name} on "
        f"{counted(found.images - len(found.held), 'image')}; largest difference {short_number(found.residual)} grey "
        "levels"
        + (
            f", and {short_number(max(each.largest for each in found.held))} on "
            f"{counted(len(found.held), 'image')} held back."
            if found.held
            else "."
        ),
    ]
    if found.library:
        lines.append(f"The resize is {found.library}'s.")
    for each in found.undecided:
        others = ", ".join(describe_value(other) for other in each.others)
        lines.append(
            f"Not determined by these images: {each.field} = {describe_value(each.chosen)} could also be {others}; "
            f"{each.decided_by} would tell."
        )
    return lines


def _recover_by_scores(
    request: RecoverRequest, witness: Witness, paths: list[Path], listener: Listener
) -> ScoreRecovery:
    import numpy as np

    from zygal.artifact.formats import read_artifact
    from zygal.engines import run_in_batches
    from zygal.engines.artifact import open_engine
    from zygal.inlet.recovery import recover_by_scores

    if not request.artifact:
        raise WitnessError(
            f"{request.witness} holds scores but no tensors; add --artifact FILE, so that inlets can be tried "
            f"by its scores."
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

    likely = [inlet for inlet in (facts.metadata.inlet, _demo_inlet()) if inlet is not None]
    return recover_by_scores(paths, witness.scores, scores, shape, dtype, likely, listener.step)


def _demo_inlet() -> Inlet:
    """The demo's, so that who follows the demo with files of their own is not sent through the search."""
    from zygal.demo import workspace
    from zygal.inlet import read_inlet

    return read_inlet(Path(workspace.__file__).parent / "data" / "channel_marks.inlet.toml")


def _next_step(request: RecoverRequest, witness: Witness, passed: bool) -> str:
    if not passed:
        source = witness.source if witness.source != "unknown" else "SOURCE"
        return command_line(
            "zygal",
            "witness",
            source,
            "--images",
            request.images,
            "--training-code",
            "FILE.py:FUNCTION",
            "-o",
            request.witness,
        )
    artifact = request.artifact or found_in_folder(request.witness, "*.onnx", "ARTIFACT")
    return match_command(artifact, request.witness, request.images, "--inlet", request.output)
