"""zygal inlet recover: the whole preprocessing, recovered from a recording and the image files."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from zygal.commands.recover.outcome import RecoverOutcome
from zygal.commands.recover.request import RecoverRequest
from zygal.errors import WitnessError, some_of
from zygal.files.outputs import check_outputs
from zygal.listener import SILENT, Listener
from zygal.naming import command_line, found_in_folder, match_command
from zygal.outcome import Gate, Verdict
from zygal.request import paths_read
from zygal.wording import counted, short_number

if TYPE_CHECKING:
    from zygal.evidence.witness import Witness
    from zygal.inlet import Inlet
    from zygal.inlet.recovery.by_scores import ScoreRecovery
    from zygal.inlet.recovery.groups import Group
    from zygal.inlet.recovery.recover import Recovery


_SMALL = 3.0
"""Grey levels of which nearly all differences are small enough to be accepted on purpose."""


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
