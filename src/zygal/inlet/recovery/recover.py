"""The recovery: the inlet found, how its differences are distributed, and the fields that these images do not
determine."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from zygal.inlet.edits import single_edits
from zygal.inlet.recovery.conventions import library_of
from zygal.inlet.recovery.groups import Group, regrouped
from zygal.inlet.recovery.material import Material, gather, held_back
from zygal.inlet.recovery.residuals import ImageResidual, explains, residuals_of
from zygal.inlet.recovery.search import Found, Progress, search
from zygal.inlet.recovery.trial import HOPELESS, Trials
from zygal.inlet.specification import Inlet, Resize

_FEW = 3

_DECIDED_BY = {
    "exif": "a photograph with an EXIF rotation",
    "transparency": "an image with transparent parts",
    "sixteen_bit": "an image of 16 bits a channel",
    "colour": "an image in colour",
    "grey_weights": "an image in colour",
    "grey_rounding": "an image with many colours",
    "mirror": "an image that is not symmetric",
    "long_side": "an image whose resized long side is not a whole number of pixels",
    "centring": "an image with an odd margin around the crop",
    "fraction_rounding": "an image whose sides times the fraction are not whole numbers",
    "per_image": "an image of another contrast",
    "jpeg": "a JPEG file",
    "jpeg_reduction": "JPEG files of other sizes, at least twice as large",
    "jpeg_grey": "a JPEG file in colour",
    "conversion": "an image with a palette or with transparent parts",
    "polarity": "an image with a bright border",
    "enlarge": "an image that is smaller than the tensor",
    "scale": "an image of a size at which a pixel lies exactly between two: other sizes than these",
    "grid_scale": "an image whose resized sides are not whole numbers of pixels",
    "box": "an image whose cropped margin is not a whole number of pixels",
    "prefilter": "an image that shrinks",
    "border": "an image with a pattern at its border",
    "order": "an image whose height shrinks more than twice as much as its width",
}


@dataclass(frozen=True)
class Undecided:
    """A field that these images do not determine: the value chosen, values that fit as well, and an image that would
    decide."""

    field: str
    chosen: object
    others: tuple[object, ...]
    decided_by: str


@dataclass(frozen=True)
class Recovery:
    """The recovered inlet. Residuals are in grey levels: the largest difference over all images, the mean one, and the
    one that 99.9 % of the values of every image keep; of the images that were searched with.

    runner_up: the best single edit that is worse, and its largest difference over the images that were searched with.
    per_image: how each image's differences are distributed. groups: where no inlet explains all images, those that
    explain some of them, if that was found. library: whose way of resampling the inlet's is. tried: how many inlets
    were run. held: the residuals of the images that were held back, which the search did not see. not_held: those of
    images that were held back at first, and had to be searched with because the inlet found on the others did not
    explain them.
    """

    inlet: Inlet
    residual: float
    mean_residual: float
    nearly_all: float
    images: int
    runner_up: tuple[str, object, float] | None
    undecided: tuple[Undecided, ...]
    unreadable: tuple[tuple[str, str], ...]
    tried: int
    per_image: tuple[ImageResidual, ...] = ()
    groups: tuple[Group, ...] = ()
    library: str | None = None
    held: tuple[ImageResidual, ...] = ()
    not_held: tuple[ImageResidual, ...] = ()

    @property
    def explains(self) -> bool:
        """Whether the inlet gives the recorded tensors."""
        return explains(self.residual, self.nearly_all)


def recover_inlet(
    paths: Sequence[str | Path], tensors: np.ndarray, progress: Progress = lambda what, part: None
) -> Recovery:
    """The inlet that gives `tensors` [N, ...] for N image files, found without any hint.

    Raises InletError if the tensors are not images or no image can be read. The best inlet may still be wrong: see
    `explains`.
    """
    material = gather(paths, tensors)
    material.hold(held_back(material))
    found = search(material, progress)
    progress("checking all images", 0.9)
    per_image = residuals_of(material, found.outcome.inlet)
    held = residuals_of(material, found.outcome.inlet, list(material.held))
    not_held: list[ImageResidual] = []
    if not all(each.explained for each in (*per_image, *held)):
        material.hold(())
        if all(each.explained for each in per_image):
            # They hold something that the others do not show.
            held, not_held, found = [], held, search(material, progress)
        else:
            held = []
        per_image = residuals_of(material, found.outcome.inlet)
    groups: tuple[Group, ...] = ()
    if not all(each.explained for each in per_image):
        progress("comparing groups of images", 0.92)
        found, per_image, groups = regrouped(material, found, per_image)
    progress("trying alternatives", 0.96)
    runner_up, undecided = _alternatives(found, [each.number for each in per_image if each.explained])
    unreadable = tuple((str(material.paths[index]), reason) for index, reason in material.unreadable.items())
    progress("done", 1.0)
    return Recovery(
        inlet=found.outcome.inlet,
        residual=max(each.largest for each in per_image),
        mean_residual=float(np.mean([each.mean for each in per_image])),
        nearly_all=max(each.nearly_all for each in per_image),
        images=len(material.readable) + len(material.held),
        runner_up=runner_up,
        undecided=undecided,
        unreadable=unreadable,
        tried=found.trials.count,
        per_image=tuple(per_image),
        groups=groups,
        library=_library(found.outcome.inlet),
        held=tuple(held),
        not_held=tuple(not_held),
    )


def _library(inlet: Inlet) -> str | None:
    """The library whose way of resampling all resizes of an inlet are, or None."""
    found = {library_of(step) for step in inlet.frame if isinstance(step, Resize)}
    return found.pop() if len(found) == 1 else None


def _alternatives(found: Found, explained: list[int]) -> tuple[tuple[str, object, float] | None, tuple[Undecided, ...]]:
    """Every single edit, run: what makes the same of these images is undecided, the best of the rest is the
    runner-up."""
    material = found.trials.material
    # Images that were held back say nothing for the inlet, which explains them, but speak against others.
    images = ([index for index in found.images if index in explained] or found.images) + list(material.held)
    best = found.trials.attempt(found.outcome.inlet, images)
    edits = [(name, edited) for name, edited in single_edits(best.inlet) if _concerns(name, best.inlet, material)]
    # What a few images speak against need not be run on all.
    few = images[:: max(1, len(images) // _FEW)]
    first = found.trials.attempt(best.inlet, few)
    different = list(dict.fromkeys(edited for _, edited in edits))
    outcomes = dict(zip(different, found.trials.all(different, few)))
    alike = [each for each in edits if outcomes[each[1]].order <= first.order]
    worse = sorted(
        (each for each in edits if first.order < outcomes[each[1]].order < (HOPELESS,)),
        key=lambda each: outcomes[each[1]].order,
    )[:_FEW]
    found.trials.all([edited for _, edited in (*alike, *worse)], images)
    equal: dict[str, list[object]] = {}
    behind = []
    whole = Trials(material, whole=True)
    for name, edited in (*alike, *worse):
        outcome = found.trials.attempt(edited, images)
        if outcome.order > best.order:
            behind.append((outcome.order, name, field_value(edited, name), outcome.largest))
        elif whole.attempt(edited, images[:2]).order <= whole.attempt(best.inlet, images[:2]).order:
            equal.setdefault(name, []).append(field_value(edited, name))
    undecided = tuple(
        Undecided(
            name,
            field_value(best.inlet, name),
            tuple(dict.fromkeys(others)),
            _DECIDED_BY.get(name.rpartition(".")[2], "an image of another size"),
        )
        for name, others in equal.items()
    )
    return (min(behind, key=lambda each: each[0])[1:] if behind else None), undecided


def _concerns(name: str, inlet: Inlet, material: Material) -> bool:
    """Whether an edit could change what some image of these kinds becomes, and is not told by the values stage."""
    field = name.rpartition(".")[2]
    if field == "sixteen_bit":
        return bool(material.deep)
    if field in ("edges", "per_image"):
        return False
    return not (field == "polarity" and inlet.values.per_image == "none")


def field_value(inlet: Inlet, name: str) -> object:
    """The value of a field by its name: "decode.colour", "frame step 2.centring", "values.per_image"."""
    stage, _, field = name.rpartition(".")
    if stage.startswith("frame step "):
        return getattr(inlet.frame[int(stage.removeprefix("frame step ")) - 1], field)
    return getattr(getattr(inlet, stage), field)
