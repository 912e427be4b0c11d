"""Recovery from scores alone: inlets are tried through the model, and the closest scores win.

Nothing is solved in closed form here but the values stage, by Gauss-Newton steps on the scores
(Nocedal and Wright, "Numerical Optimization", 2006, section 10.3) once the rest is nearly right.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from itertools import product
from pathlib import Path

import numpy as np

from zygal.errors import ImageError, InletError
from zygal.inlet.edits import single_edits, with_step
from zygal.inlet.recovery.fit import Line, values_of
from zygal.inlet.recovery.material import Material, gather, held_back
from zygal.inlet.recovery.trial import Trials
from zygal.inlet.sizes import fixed_size, tensor_shape
from zygal.inlet.specification import Crop, Decode, Inlet, Pad, Resize, Tensor, Values
from zygal.inlet.values import to_tensor

Scores = Callable[[np.ndarray], np.ndarray]
_PLAIN = 8
_STARTS = 4
_EXACT = 1e-5
_USUAL_VALUES = (
    Values(),
    Values((-1.0, 1.0)),
    Values((0.0, 255.0)),
    Values(mean=(0.485, 0.456, 0.406), std=(0.229, 0.224, 0.225)),
    Values((0.0, 255.0), (123.68, 116.779, 103.939)),
    Values((0.0, 255.0), (103.939, 116.779, 123.68)),
    Values(per_image="standardise"),
)


@dataclass(frozen=True)
class ScoreRecovery:
    """The inlet with the closest scores. mean, largest: differences as parts of the spread of the recorded scores.

    held: images that the search did not see; held_largest: of them. changed_top_1: images whose top-1 class differs
    from the recording. runner_up: the second best inlet, its mean difference.
    """

    inlet: Inlet
    mean: float
    largest: float
    changed_top_1: int
    images: int
    runner_up: tuple[Inlet, float] | None
    tried: int
    held: int = 0
    held_largest: float | None = None


class _ByScores:
    """Runs inlets through the model and remembers how far the scores are off."""

    def __init__(self, material: Material, recorded: np.ndarray, scores: Scores):
        self.trials = Trials(material, whole=True)
        self.recorded, self.scores = recorded, scores
        self.spread = float(np.ptp(recorded)) or 1.0
        self.known: dict[tuple[Inlet, tuple[int, ...]], float] = {}

    def run(self, inlet: Inlet, images: list[int]) -> np.ndarray | None:
        """The scores of some images; None if an image does not fit the inlet."""
        try:
            pixels = [self.trials.pixels(index, inlet) for index in images]
        except (ImageError, ValueError):
            return None
        size = fixed_size(inlet)
        if any(each.shape[:2] != size for each in pixels):
            return None
        return self.scores(np.stack([to_tensor(each, inlet.values, inlet.tensor)[0] for each in pixels]))

    def difference_of(self, inlet: Inlet, images: list[int]) -> float:
        """The mean difference of the scores as a part of the recorded spread."""
        key = (inlet, tuple(images))
        if key not in self.known:
            scores = self.run(inlet, images)
            off = np.inf if scores is None else float(np.abs(scores - self.recorded[images]).mean() / self.spread)
            self.known[key] = off if np.isfinite(off) else np.inf
        return self.known[key]


def recover_by_scores(
    paths: Sequence[str | Path],
    recorded: np.ndarray,
    scores: Scores,
    shape: tuple[int, int, int],
    dtype: str = "float32",
    likely: Sequence[Inlet] = (),
    progress: Callable[[str, float], None] = lambda what, part: None,
) -> ScoreRecovery:
    """The inlet whose tensors [N, *shape], run by `scores`, give scores closest to `recorded` [N, classes].

    likely: inlets to be tried first, of which those count that make such tensors. Raises InletError if the model takes
    no images of 1 or 3 channels or no image can be read.
    """
    tensor, size, channels = _tensor(shape, dtype)
    material = gather(paths, np.zeros((len(paths), *shape), dtype))
    material.hold(held_back(material))
    search = _ByScores(material, recorded, scores)
    plain = (material.plain or material.readable)[:_PLAIN]
    starts = [inlet for inlet in likely if tensor_shape(inlet) == tuple(shape) and inlet.tensor.dtype == dtype]
    starts += _starts(size, channels, tensor, bool(material.deep))
    for number, start in enumerate(starts):
        progress("usual inlets", 0.3 * number / len(starts))
        search.difference_of(start, plain)
    starts.sort(key=lambda start: search.difference_of(start, plain))
    found = []
    for number, start in enumerate(starts[:_STARTS]):
        progress("trying values one by one", 0.3 + 0.5 * number / _STARTS)
        found.append(_improve(search, start, plain))
        if search.difference_of(found[-1], plain) <= _EXACT:
            break
    progress("trying other image kinds", 0.8)
    rare = [*material.turned[:3], *material.see_through[:3], *material.deep[:2]]
    images = sorted(dict.fromkeys([*rare, *plain]))
    best = _improve(search, min(found, key=lambda each: search.difference_of(each, plain)), images)
    alike = {inlet: difference_of for (inlet, among), difference_of in search.known.items() if among == tuple(images)}
    others = {
        inlet: difference_of
        for inlet, difference_of in alike.items()
        if difference_of > search.difference_of(best, images) * 1.01 + 1e-7
    }
    runner_up = min(others.items(), key=lambda each: each[1]) if others else None
    readable = material.readable
    off = np.abs((made := search.run(best, readable)) - recorded[readable]) / search.spread
    held = list(material.held)
    held_scores = search.run(best, held) if held else None
    held_largest = (
        None
        if not held
        else np.inf
        if held_scores is None
        else float(np.abs(held_scores - recorded[held]).max() / search.spread)
    )
    changed_top_1 = int((made.argmax(axis=1) != recorded[readable].argmax(axis=1)).sum())
    return ScoreRecovery(
        best,
        float(off.mean()),
        float(off.max()),
        changed_top_1,
        len(readable),
        runner_up,
        len(search.known),
        len(held),
        held_largest,
    )


def _tensor(shape: tuple[int, int, int], dtype: str) -> tuple[Tensor, tuple[int, int], int]:
    if shape[0] in (1, 3):
        return Tensor("NCHW", dtype), shape[1:], shape[0]
    if shape[-1] in (1, 3):
        return Tensor("NHWC", dtype), shape[:2], shape[-1]
    raise InletError(f"the model takes tensors {list(shape)} an image, but an inlet makes images of 1 or 3 channels.")


def _starts(size: tuple[int, int], channels: int, tensor: Tensor, deep: bool):
    frames = [(Resize(size=size),)]
    frames += [(Resize(round(max(size) * margin)), Crop(size)) for margin in (1.0, 8 / 7, 9 / 8, 1.25)]
    frames += [(Crop(fraction=0.875), Resize(size=size)), (Resize(within=size), Pad(size))]
    values = [each for each in _USUAL_VALUES if len(each.mean or (0,) * channels) == channels]
    if tensor.dtype == "uint8":
        values = [Values((0.0, 255.0))]
    for colour, frame, each in product(("rgb", "bgr") if channels == 3 else ("grey",), frames, values):
        yield Inlet(Decode(colour, sixteen_bit="high-byte" if deep else "refuse"), frame, each, tensor)


def _improve(search: _ByScores, inlet: Inlet, images: list[int]) -> Inlet:
    """Values solved, then trying values one by one, in turns as long as it helps."""
    for _ in range(4):
        before = search.difference_of(inlet, images)
        inlet = _descend(search, _with_solved_values(search, inlet, images), images)
        if search.difference_of(inlet, images) <= _EXACT or search.difference_of(inlet, images) > 0.9 * before:
            break
    return inlet


def _descend(search: _ByScores, inlet: Inlet, images: list[int]) -> Inlet:
    while search.difference_of(inlet, images) > _EXACT:
        best = min(_edits(inlet), key=lambda each: search.difference_of(each, images))
        if search.difference_of(best, images) >= search.difference_of(inlet, images):
            return inlet
        inlet = best
    return inlet


def _edits(inlet: Inlet):
    yield from (edited for _, edited in single_edits(inlet))
    for values in _USUAL_VALUES:
        if len(values.mean or (0,) * inlet.channels) == inlet.channels and inlet.tensor.dtype != "uint8":
            yield replace(inlet, values=values)
    for position, step in enumerate(inlet.frame):
        if isinstance(step, Resize) and step.short_side:
            for by in (-16, -8, -4, -2, -1, 1, 2, 4, 8, 16):
                if step.short_side + by >= max(fixed_size(inlet)):
                    edited = replace(step, short_side=step.short_side + by)
                    yield with_step(inlet, position, edited)


def _with_solved_values(search: _ByScores, inlet: Inlet, images: list[int], steps: int = 8) -> Inlet:
    """The inlet with slope and offset of each channel moved so that the scores come closest, if that brings them
    closer."""
    if inlet.values.per_image != "none" or inlet.tensor.dtype == "uint8":
        return inlet
    pixels = [search.trials.pixels(index, inlet).astype(np.float32) for index in images]
    black, white = (
        to_tensor(np.full((1, 1, inlet.channels), level, np.uint8), inlet.values, Tensor("NHWC"))[0][0, 0]
        for level in (0, 255)
    )
    recorded = search.recorded[images].astype(np.float64).ravel()

    def run(ends: np.ndarray) -> np.ndarray:
        low, high = ends.reshape(2, -1).astype(np.float32)
        numbers = np.stack([low + each * ((high - low) / np.float32(255)) for each in pixels])
        return search.scores(numbers.transpose(0, 3, 1, 2).copy() if inlet.tensor.layout == "NCHW" else numbers).ravel()

    ends = np.concatenate([black, white]).astype(np.float64)
    difference_of = run(ends) - recorded
    if not np.isfinite(difference_of).all():
        return inlet
    for _ in range(steps):
        width = np.abs(ends[inlet.channels :] - ends[: inlet.channels]).max()
        step = 1e-3 * width
        slopes = np.stack(
            [(run(ends + step * unit) - recorded - difference_of) / step for unit in np.eye(len(ends))], axis=1
        )
        if not np.isfinite(slopes).all():
            # A model that overflows on such tensors says nothing about which way is better.
            break
        moved = ends - np.linalg.lstsq(slopes, difference_of, rcond=1e-4)[0].clip(-0.5 * width, 0.5 * width)
        after = run(moved) - recorded
        if not np.isfinite(after).all():
            break
        if not np.abs(after).mean() < np.abs(difference_of).mean():
            break
        ends, difference_of = moved, after
    low, high = ends.reshape(2, -1)
    slope = (high - low) / 255
    noise = float(np.abs(difference_of).mean() / search.spread) * 100
    solved = replace(inlet, values=values_of(Line(slope, low, noise, noise)))
    return solved if search.difference_of(solved, images) < search.difference_of(inlet, images) else inlet
