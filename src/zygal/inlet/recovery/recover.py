"""The recovery: the inlet found, its errors, and the fields that these images do not determine."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from zygal.errors import ImageError
from zygal.inlet.apply import apply_to_all
from zygal.inlet.edits import single_edits
from zygal.inlet.recovery.material import Material, gather
from zygal.inlet.recovery.search import Found, Progress, search
from zygal.inlet.recovery.trial import HOPELESS
from zygal.inlet.specification import Inlet
from zygal.inlet.values import level_differences

EXPLAINED = 0.5
"""Largest difference in grey levels at which an inlet explains a recording."""

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
    "edges": "an image whose border is not cropped away",
    "order": "an image whose height shrinks more than twice as much as its width",
}


@dataclass(frozen=True)
class Undecided:
    """A field that these images do not determine: the value chosen, values that fit as well, and an image that would decide."""

    field: str
    chosen: object
    others: tuple[object, ...]
    decided_by: str


@dataclass(frozen=True)
class Recovery:
    """The recovered inlet. Residuals are in grey levels: the largest difference over all images, and the mean one.

    runner_up: the best single edit that is worse, and its largest difference over the images that were searched with.
    unread: images that could not be read. tried: how many inlets were run in full.
    """

    inlet: Inlet
    residual: float
    mean_residual: float
    images: int
    runner_up: tuple[str, object, float] | None
    undecided: tuple[Undecided, ...]
    unreadable: tuple[tuple[str, str], ...]
    tried: int

    @property
    def explains(self) -> bool:
        return self.residual <= EXPLAINED


def recover_inlet(
    paths: Sequence[str | Path], tensors: np.ndarray, progress: Progress = lambda what, part: None
) -> Recovery:
    """The inlet that gives `tensors` [N, ...] for N image files, found without any hint.

    Raises InletError if the tensors are not images or no image can be read. The best inlet may still be wrong: see `explains`.
    """
    found = search(gather(paths, tensors), progress)
    progress("checking all images", 0.93)
    inlet = found.outcome.inlet
    largest, mean = residuals(found.trials.material, inlet)
    progress("trying alternatives", 0.96)
    runner_up, undecided = _alternatives(found)
    material = found.trials.material
    unreadable = tuple((str(material.paths[index]), reason) for index, reason in material.unreadable.items())
    progress("done", 1.0)
    return Recovery(inlet, largest, mean, len(material.readable), runner_up, undecided, unreadable, found.trials.count)


def residuals(material: Material, inlet: Inlet) -> tuple[float, float]:
    """The largest and the mean difference in grey levels over all images that can be read."""
    largest, means = 0.0, []
    readable = material.readable
    for index, made in zip(readable, apply_to_all([material.paths[index] for index in readable], inlet)):
        if isinstance(made, ImageError):
            return HOPELESS, HOPELESS
        tensor = made.tensor.transpose(1, 2, 0) if inlet.tensor.layout == "NCHW" else made.tensor
        recorded = material.recorded[index]
        if tensor.shape != recorded.shape:
            return HOPELESS, HOPELESS
        differences = level_differences(tensor, recorded, made.grey_level)
        largest = max(largest, float(differences.max()))
        means.append(float(differences.mean()))
    return largest, float(np.mean(means))


def _alternatives(found: Found) -> tuple[tuple[str, object, float] | None, tuple[Undecided, ...]]:
    """Every single edit, run: what makes the same of these images is undecided, the best of the rest is the runner-up."""
    best = found.outcome
    equal: dict[str, list[object]] = {}
    worse = []
    solved = best.inlet.values.per_image == "none"
    edits = [each for each in single_edits(best.inlet) if not (solved and each[0] == "decode.polarity")]
    # What a few images speak against need not be run on all.
    few = found.images[:: max(1, len(found.images) // _FEW)]
    first = found.trials.attempt(best.inlet, few)
    outcomes = found.trials.all([edited for _, edited in edits], few)
    alike = {edited for (_, edited), outcome in zip(edits, outcomes) if outcome.order <= first.order}
    contradicted = [(outcome.order, *each) for each, outcome in zip(edits, outcomes) if each[1] not in alike]
    nearest = [
        edited for order, _, edited in sorted(contradicted, key=lambda each: each[0])[:_FEW] if order[0] < HOPELESS
    ]
    found.trials.all([*alike, *nearest], found.images)
    for name, edited in edits:
        if edited not in alike and edited not in nearest:
            continue
        outcome = found.trials.attempt(edited, found.images)
        if outcome.order <= best.order:
            equal.setdefault(name, []).append(field_value(edited, name))
        elif outcome.mean < HOPELESS:
            worse.append((outcome.order, name, field_value(edited, name), outcome.largest))
    undecided = tuple(
        Undecided(name, field_value(best.inlet, name), tuple(dict.fromkeys(others)),
                  _DECIDED_BY.get(name.rpartition(".")[2], "an image of another size"))
        for name, others in equal.items()
    )  # fmt: skip
    runner_up = min(worse, key=lambda each: each[0])[1:] if worse else None
    return runner_up, undecided


def field_value(inlet: Inlet, name: str) -> object:
    """The value of a field by its name: "decode.colour", "frame step 2.centring", "values.per_image"."""
    stage, _, field = name.rpartition(".")
    if stage.startswith("frame step "):
        return getattr(inlet.frame[int(stage.removeprefix("frame step ")) - 1], field)
    return getattr(getattr(inlet, stage), field)
