"""Why the tensors differ: the fields of the inlet that must change.

Most mistakes are in one detail, so every inlet that differs from the given one in one field is tried first. If none
gives the recorded tensors, the inlet is recovered without any hint, and each field that need not differ from the given
inlet is put back: the remaining differences are the causes.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, fields, replace
from pathlib import Path

import numpy as np

from zygal.errors import ImageError, InletError
from zygal.evidence.witness import Witness
from zygal.inlet import Inlet, Tensor, Values
from zygal.inlet.description import describe_step, describe_value, describe_values
from zygal.inlet.edits import fits_together, single_edits, with_step
from zygal.inlet.recovery.conventions import in_the_way_of, library_of
from zygal.inlet.recovery.descent import other_conventions
from zygal.inlet.recovery.material import Material, gather
from zygal.inlet.recovery.search import search
from zygal.inlet.recovery.trial import HOPELESS, Trials
from zygal.inlet.specification import RESIZE_TO, Resize, departures
from zygal.inlet.values import grey_levels, level_differences, to_tensor

SAMPLE = 12
_RANGES = ((0.0, 1.0), (0.0, 255.0), (-1.0, 1.0), (1.0, 0.0))
_SIZES = (*RESIZE_TO, "fraction", "aspect", "margins", "sigma", "taps")
"""Fields that say what a step does at all."""
ALIKE = 0.02
"""Grey levels below which two inlets do the same: what float32 leaves."""


@dataclass(frozen=True)
class Cause:
    """Each finding is a sentence on one field that must change, the one with the largest effect first.

    `inlet` is the corrected one. Residuals are the largest differences in grey levels over the images that were
    compared, residual_before None if the tensors cannot be compared at all.
    """

    findings: tuple[str, ...]
    inlet: Inlet
    residual_before: float | None
    residual_after: float


class _Residuals:
    """The largest difference in grey levels that inlets leave, with the values that they state: first on some rows and
    columns of the images, and only if that is within a limit on all of them."""

    def __init__(self, material: Material):
        self.sampled, self.whole = Trials(material), Trials(material, whole=True)
        self.material = material

    def of(self, inlet: Inlet, images: list[int], limit: float = np.inf) -> float:
        """Over some images; given up as soon as it is above the limit."""
        if inlet.tensor != self.material.tensor:
            return HOPELESS
        # What is done per image needs all of it.
        ways = (self.whole,) if inlet.values.per_image != "none" or limit == np.inf else (self.sampled, self.whole)
        worst = 0.0
        for trials in ways:
            for index in images:
                worst = max(worst, _largest(trials, inlet, index))
                if not worst <= limit:
                    return worst
        return worst


def _largest(trials: Trials, inlet: Inlet, index: int) -> float:
    try:
        pixels = trials.pixels(index, inlet)
    except (ImageError, ValueError):
        return HOPELESS
    recorded = trials.recorded(index)
    if pixels.shape != recorded.shape:
        return HOPELESS
    tensor, level = to_tensor(pixels, inlet.values, Tensor("NHWC", inlet.tensor.dtype))
    return float(level_differences(tensor, recorded, level).max())


def find_cause(
    witness: Witness,
    inlet: Inlet,
    folder: str | Path,
    differences: dict[int, float | None],
    limit: float,
    progress: Callable[[str, float], None] = lambda what, part: None,
) -> Cause | None:
    """What must change in the inlet for every tensor to be within `limit` grey levels, or None if nothing is found."""
    by_difference = sorted(
        differences, key=lambda i: np.inf if differences[i] is None else differences[i], reverse=True
    )
    known = [value for value in differences.values() if value is not None]
    before = max(known) if known and len(known) == len(differences) else None
    paths = [Path(folder) / witness.images[index].name for index in by_difference]
    try:
        material = gather(paths, witness.tensors[by_difference])
    except InletError:
        return None
    residuals = _Residuals(material)
    images = material.readable
    progress("trying single changes", 0.0)
    corrected = _single(residuals, inlet, images[:SAMPLE], limit)
    if corrected is None or residuals.of(corrected, images, limit) > limit:
        recovered = search(material, progress).outcome.inlet
        corrected = _nearest(residuals, recovered, inlet, images[:SAMPLE])
    if not fits_together(corrected):
        return None
    after = residuals.of(corrected, images)
    if after > limit:
        return None
    return Cause(_findings(residuals, corrected, inlet, images[:SAMPLE]), corrected, before, after)


def _single(residuals: _Residuals, inlet: Inlet, images: list[int], limit: float) -> Inlet | None:
    """The single edit that leaves least, if it leaves no more than the limit."""
    edits = [edited for _, edited in single_edits(inlet)] + other_conventions(inlet)
    if inlet.values.per_image == "none" and inlet.tensor.dtype == "float32":
        edits += [replace(inlet, values=replace(inlet.values, range=range_)) for range_ in _RANGES]
        solved = residuals.sampled.attempt(inlet, images)
        edits.append(solved.inlet)
    other = "NHWC" if inlet.tensor.layout == "NCHW" else "NCHW"
    edits.append(replace(inlet, tensor=replace(inlet.tensor, layout=other)))
    best, least = None, limit
    for edited in edits:
        residual = residuals.of(edited, images, least)
        if residual <= least and edited != inlet:
            best, least = edited, residual if best is None else min(least, residual)
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
            if (
                reverted is not None
                and reverted != found
                and fits_together(reverted)
                and residuals.of(reverted, images, allowed) <= allowed
            ):
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
    right_step, wrong_step = (to_tensor(ends, values, Tensor("NHWC"))[0] for values in (one, other))
    return bool((level_differences(right_step, wrong_step, grey_levels(one, channels)) < 0.01).all())


def _reverted(found: Inlet, given: Inlet, name: str) -> Inlet | None:
    """The found inlet with one departure put back to what was given; None if it cannot be alone."""
    stage, _, field = name.rpartition(".")
    if name == "frame":
        return replace(found, frame=given.frame)
    if stage.startswith("frame step "):
        index = int(stage.removeprefix("frame step ")) - 1
        sizes = _SIZES
        step = (
            given.frame[index]
            if field in sizes
            else replace(found.frame[index], **{field: getattr(given.frame[index], field)})
        )
        return with_step(found, index, step)
    if stage == "values":
        return replace(found, values=given.values)
    record = replace(getattr(found, stage), **{field: getattr(getattr(given, stage), field)})
    edited = replace(found, **{stage: record})
    return edited if edited.channels == found.channels else None


def _findings(residuals: _Residuals, corrected: Inlet, given: Inlet, images: list[int]) -> tuple[str, ...]:
    """One sentence a departure, those first without which most is left."""
    effects: dict[str, float] = {}
    for name, right, wrong in departures(corrected, given):
        sentence = _library_sentence(name, corrected, given) or _sentence(name, right, wrong, corrected, given)
        reverted = _reverted(corrected, given, name)
        residual = HOPELESS if reverted is None else residuals.of(reverted, images)
        effects[sentence] = max(effects.get(sentence, 0.0), residual)
    return tuple(sorted(effects, key=effects.get, reverse=True))


def _library_sentence(name: str, corrected: Inlet, given: Inlet) -> str | None:
    """Where a resize differs in more than one field of its convention: one finding, with the library if it is known."""
    stage, _, field = name.rpartition(".")
    if not stage.startswith("frame step ") or len(corrected.frame) != len(given.frame):
        return None
    index = int(stage.removeprefix("frame step ")) - 1
    right, wrong = corrected.frame[index], given.frame[index]
    if not isinstance(right, Resize) or not isinstance(wrong, Resize) or in_the_way_of(wrong, right) != right:
        return None
    changed = [each.name for each in fields(Resize) if getattr(right, each.name) != getattr(wrong, each.name)]
    if len(changed) < 2:
        return None
    names = [f" (the convention of {library})" if (library := library_of(step)) else "" for step in (right, wrong)]
    return (
        f"frame step {index + 1} should be: {describe_step(right)}{names[0]}; the inlet says: "
        f"{describe_step(wrong)}{names[1]}"
    )


def _sentence(name: str, right: object, wrong: object, corrected: Inlet, given: Inlet) -> str:
    stage, _, field = name.rpartition(".")
    if stage == "values":
        if field == "range" and replace(corrected.values, range=given.values.range) == given.values:
            return f"values.range should be {describe_value(right)}, the inlet says {describe_value(wrong)}"
        return (
            f"the values stage should be: {describe_values(corrected.values)}; the inlet says: "
            f"{describe_values(given.values)}"
        )
    steps = [", then ".join(describe_step(step) for step in each.frame) or "nothing" for each in (corrected, given)]
    if name == "frame":
        return f"the frame stage should be: {steps[0]}; the inlet says: {steps[1]}"
    if field in _SIZES:
        index = int(stage.removeprefix("frame step ")) - 1
        right_step, wrong_step = (describe_step(each.frame[index]) for each in (corrected, given))
        return f"frame step {index + 1} should be: {right_step}; the inlet says: {wrong_step}"
    quoted = [f'"{value}"' if isinstance(value, str) else describe_value(value) for value in (right, wrong)]
    return f"{name} should be {quoted[0]}, the inlet says {quoted[1]}"
