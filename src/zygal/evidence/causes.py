"""Why the tensors differ: the fields of the inlet that must change, each with what it is worth.

What people get wrong is mostly one detail, so every inlet that differs from theirs in one field is
tried first. If none makes the recorded tensors, the inlet is recovered without any hint, and the
fields in which it need not differ from theirs are put back: what remains are the causes.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from zygal.errors import ImageError, InletError
from zygal.evidence.witness import Witness
from zygal.inlet import Inlet, Tensor, Values
from zygal.inlet.edits import single_edits, with_step
from zygal.inlet.recovery.material import Material, gather
from zygal.inlet.recovery.search import search
from zygal.inlet.recovery.trial import HOPELESS, Trials
from zygal.inlet.specification import departures
from zygal.inlet.values import grey_levels, to_tensor
from zygal.inlet.description import describe_step, describe_value, describe_values

SAMPLE = 12
_RANGES = ((0.0, 1.0), (0.0, 255.0), (-1.0, 1.0), (1.0, 0.0))
ALIKE = 0.02
"""Grey levels below which two inlets do the same: what float32 leaves."""


@dataclass(frozen=True)
class Cause:
    """Each finding completes the sentence "The tensors are the recorded ones if ...", the weightiest first.

    `inlet` is the corrected one. Residuals are the largest differences in grey levels over the images that were compared,
    residual_before None if the tensors cannot be compared at all.
    """

    findings: tuple[str, ...]
    inlet: Inlet
    residual_before: float | None
    residual_after: float


class _Residuals:
    """What inlets leave, run exactly and not solved: the largest difference in grey levels."""

    def __init__(self, material: Material):
        self.trials = Trials(material)
        self.material = material

    def of(self, inlet: Inlet, images: list[int], limit: float = np.inf) -> float:
        """Over some images; given up as soon as it is above the limit."""
        if inlet.tensor != self.material.tensor:
            return HOPELESS
        worst = 0.0
        for index in images:
            try:
                pixels = self.trials.pixels(index, inlet)
            except ImageError:
                return HOPELESS
            recorded = self.material.recorded[index]
            if pixels.shape != recorded.shape:
                return HOPELESS
            tensor, level = to_tensor(pixels, inlet.values, Tensor("NHWC", inlet.tensor.dtype))
            left = np.abs(tensor.astype(np.float32) - recorded.astype(np.float32)) / np.abs(level).astype(np.float32)
            worst = max(worst, float(left.max()))
            if not worst <= limit:
                return worst
        return worst


def find_cause(
    witness: Witness,
    inlet: Inlet,
    folder: str | Path,
    differences: dict[int, float | None],
    limit: float,
    progress: Callable[[str, float], None] = lambda what, part: None,
) -> Cause | None:
    """What must change in the inlet for every tensor to be within `limit` grey levels, or None if nothing is found."""
    by_badness = sorted(differences, key=lambda i: np.inf if differences[i] is None else differences[i], reverse=True)
    known = [value for value in differences.values() if value is not None]
    before = max(known) if known and len(known) == len(differences) else None
    paths = [Path(folder) / witness.images[index].name for index in by_badness]
    try:
        material = gather(paths, witness.tensors[by_badness])
    except InletError:
        return None
    residuals = _Residuals(material)
    images = material.readable
    progress("trying single changes", 0.0)
    corrected = _single(residuals, inlet, images[:SAMPLE], limit)
    if corrected is None or residuals.of(corrected, images, limit) > limit:
        recovered = search(material, progress).outcome.inlet
        corrected = _nearest(residuals, recovered, inlet, images[:SAMPLE])
    after = residuals.of(corrected, images)
    if after > limit:
        return None
    return Cause(_findings(residuals, corrected, inlet, images[:SAMPLE]), corrected, before, after)


def _single(residuals: _Residuals, inlet: Inlet, images: list[int], limit: float) -> Inlet | None:
    """The single edit that leaves least, if it leaves no more than the limit."""
    edits = [edited for _, edited in single_edits(inlet)]
    if inlet.values.per_image == "none" and inlet.tensor.dtype == "float32":
        edits += [replace(inlet, values=replace(inlet.values, range=range_)) for range_ in _RANGES]
        solved = residuals.trials.attempt(inlet, images)
        edits.append(solved.inlet)
    other = "NHWC" if inlet.tensor.layout == "NCHW" else "NCHW"
    edits.append(replace(inlet, tensor=replace(inlet.tensor, layout=other)))
    best, least = None, limit
    for edited in edits:
        left = residuals.of(edited, images, least)
        if left <= least and edited != inlet:
            best, least = edited, left if best is None else min(least, left)
        if least < ALIKE:
            break
    return best


def _nearest(residuals: _Residuals, found: Inlet, given: Inlet, images: list[int]) -> Inlet:
    """The recovered inlet with every field as given where that makes no difference to these images."""
    allowed = max(residuals.of(found, images) + ALIKE, ALIKE)
    if _same_values(found.values, given.values, found.channels):
        found = replace(found, values=given.values)
    changed = True
    while changed:
        changed = False
        for name, _, _ in list(departures(found, given)):
            reverted = _reverted(found, given, name)
            if reverted is not None and reverted != found and residuals.of(reverted, images, allowed) <= allowed:
                found, changed = reverted, True
                break
    return found


def _same_values(one: Values, other: Values, channels: int) -> bool:
    """Whether black and white become the same numbers, to a hundredth of a grey level."""
    if one.per_image != other.per_image or len(other.mean or other.std or (0,) * channels) != channels:
        return False
    if one.per_image != "none":
        return True
    ends = np.array([[[0] * channels, [255] * channels]], np.uint8)
    mine, theirs = (to_tensor(ends, values, Tensor("NHWC"))[0] for values in (one, other))
    return bool((np.abs(mine - theirs) < 0.01 * np.abs(grey_levels(one, channels))).all())


def _reverted(found: Inlet, given: Inlet, name: str) -> Inlet | None:
    """The found inlet with one departure put back to what was given; None if it cannot be alone."""
    stage, _, field = name.rpartition(".")
    if name == "frame":
        return replace(found, frame=given.frame)
    if stage.startswith("frame step "):
        place = int(stage.removeprefix("frame step ")) - 1
        sizes = ("size", "short_side", "within", "fraction", "aspect")
        step = (
            given.frame[place]
            if field in sizes
            else replace(found.frame[place], **{field: getattr(given.frame[place], field)})
        )
        return with_step(found, place, step)
    if stage == "values":
        return replace(found, values=given.values)
    record = replace(getattr(found, stage), **{field: getattr(getattr(given, stage), field)})
    edited = replace(found, **{stage: record})
    return edited if edited.channels == found.channels else None


def _findings(residuals: _Residuals, corrected: Inlet, given: Inlet, images: list[int]) -> tuple[str, ...]:
    """One sentence a departure, those first without which most is left."""
    said: dict[str, float] = {}
    for name, right, wrong in departures(corrected, given):
        sentence = _sentence(name, right, wrong, corrected, given)
        reverted = _reverted(corrected, given, name)
        left = HOPELESS if reverted is None else residuals.of(reverted, images)
        said[sentence] = max(said.get(sentence, 0.0), left)
    return tuple(sorted(said, key=said.get, reverse=True))


def _sentence(name: str, right: object, wrong: object, corrected: Inlet, given: Inlet) -> str:
    stage, _, field = name.rpartition(".")
    if stage == "values":
        if field == "range" and replace(corrected.values, range=given.values.range) == given.values:
            return f"values.range is {describe_value(right)} instead of {describe_value(wrong)}"
        return f"values is {describe_values(corrected.values)} instead of {describe_values(given.values)}"
    steps = [", then ".join(describe_step(step) for step in each.frame) or "nothing" for each in (corrected, given)]
    if name == "frame":
        return f"the frame is: {steps[0]}, instead of: {steps[1]}"
    if field in ("size", "short_side", "within", "fraction", "aspect"):
        place = int(stage.removeprefix("frame step ")) - 1
        mine, theirs = (describe_step(each.frame[place]) for each in (corrected, given))
        return f"frame step {place + 1} is: {mine}, instead of: {theirs}"
    quoted = [f'"{value}"' if isinstance(value, str) else describe_value(value) for value in (right, wrong)]
    return f"{name} is {quoted[0]} instead of {quoted[1]}"
