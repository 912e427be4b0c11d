"""Works the whole inlet out from images and the tensors that training made of them.

From rough to exact: where the tensor lies on the image, by correlation; how it was resampled, on a
few rows and columns; then whole inlets, run exactly, trying values one by one as long as
something improves. The values stage is never searched but solved.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, replace
from itertools import product

import numpy as np

from zygal.inlet import specification as spec
from zygal.inlet.edits import effective, effective_decode, single_edits, step_edits, with_step
from zygal.inlet.frame import as_array
from zygal.inlet.recovery.coarse import Cutter, find_placements
from zygal.inlet.recovery.frames import FILTERINGS, FIRST_WAYS, Prober, frames_of, with_filtering
from zygal.inlet.recovery.material import Material, telling
from zygal.inlet.recovery.trial import Outcome, Trials, solve_ground, solve_pad_colour
from zygal.inlet.specification import Decode, Inlet, Pad, Resize, Step, Values
from zygal.pool import ThreadPool

Progress = Callable[[str, float], None]
EXACT = 0.02
"""Mean difference in grey levels below which nothing better is looked for: float32's own is a tenth of it."""
_PLACES, _FRAMES, _STARTS = 16, 6, 4
_MOST_IMAGES = 16


@dataclass(frozen=True)
class Found:
    """The best inlet with what it leaves over the images that were searched with, and what else was tried."""

    outcome: Outcome
    trials: Trials
    images: list[int]


def search(material: Material, progress: Progress = lambda what, part: None) -> Found:
    """The inlet that explains what the images of the material became."""
    trials = Trials(material)
    sample, decode, starts = _starts(material, progress)
    progress("trying inlets in full", 0.5)
    outcomes = [_with_colour(trials, frame, replace(decode, mirror=mirror), sample) for frame, mirror in starts]
    best = min(outcomes, key=lambda each: each.order)
    for number, outcome in enumerate(sorted(outcomes, key=lambda each: each.order)):
        progress("trying inlets in full", 0.5 + 0.4 * number / len(outcomes))
        best = min(best, _descend(trials, outcome, sample), key=lambda each: each.order)
        if best.mean < EXACT:
            break
    progress("trying other image kinds", 0.9)
    inlet = _other_kinds(trials, best.inlet, sample)
    images = sorted(set(sample) | set(_spread_out(material)))
    # What the sample could not tell, the other images may.
    best = _descend(trials, trials.attempt(inlet, images), images, pairs=True)
    return Found(simplest(trials, best, images), trials, images)


def _spread_out(material: Material) -> list[int]:
    """Up to so many images of all kinds, the rare kinds first."""
    rare = [*material.turned[:4], *material.see_through[:4], *material.deep[:4]]
    order = dict.fromkeys([*rare, *material.plain, *material.readable])
    return list(order)[:_MOST_IMAGES]


def _starts(material: Material, progress: Progress) -> tuple[list[int], Decode, list[tuple[tuple[Step, ...], str]]]:
    """A sample of images, how to decode them, and the frames with their mirroring that are worth trying exactly."""
    among = material.plain or material.readable
    sample = telling(material, among, 4)
    guesses = [Decode()]
    if not material.plain:
        grounds = ("drop", "#ffffff", "#000000") if material.see_through else ("drop",)
        depths = spec.SIXTEEN_BIT[1:] if material.deep else ("refuse",)
        guesses = [Decode("rgb", *rest) for rest in product(spec.EXIF if material.turned else ("ignore",), grounds)]
        guesses = [replace(guess, sixteen_bit=depth) for guess, depth in product(guesses, depths)]
    tried = []
    for number, guess in enumerate(guesses):
        progress("locating the frame", 0.3 * number / len(guesses))
        pictures = [as_array(material.picture(index, guess)) for index in sample[:3]]
        recorded = material.recorded[sample[:3]]
        positions = find_placements(Cutter(pictures, recorded), _PLACES)
        tried.append((positions[0].unexplained, number, positions, pictures))
    _, number, positions, pictures = min(tried)
    progress("testing the resampling", 0.3)
    prober = Prober(pictures, material.recorded[sample[:3]])
    return sample, guesses[number], _resampled(prober, positions, material)


def _resampled(prober: Prober, positions, material: Material) -> list[tuple[tuple[Step, ...], str]]:
    frames = dict.fromkeys((frame, position.mirror) for position in positions for frame in frames_of(position, material.size))
    frames = _best_frames(prober, frames, FILTERINGS[:FIRST_WAYS], 2 * _FRAMES)
    for _ in range(2):
        wider = dict.fromkeys((edited, mirror) for frame, mirror in frames for edited in _margins_edited(frame))
        frames = _best_frames(prober, wider, FILTERINGS[:FIRST_WAYS], _FRAMES)
    found = [
        (prober.explain(filtering, mirror), filtering, mirror) for f, mirror in frames for filtering in (with_filtering(f, w) for w in FILTERINGS)
    ]
    return _thinned(found, _STARTS)


def _best_frames(prober: Prober, frames, filterings, count: int) -> list[tuple[tuple[Step, ...], str]]:
    """The frames that explain most in the way that suits them best."""

    def left(frame: tuple[Step, ...], mirror: str, images: int | None = None) -> float:
        return min(prober.explain(with_filtering(frame, filtering), mirror, images) for filtering in filterings)

    if len(frames) > 4 * count:
        # What two images of extreme proportions speak against need not be tried on the others.
        frames = _thinned([(left(*each, 2), *each) for each in frames], 4 * count)
    return _thinned(
        [(score, *each) for score, each in zip(ThreadPool().map(lambda each: left(*each), frames), frames)], count
    )


def _thinned(scored: list[tuple[float, tuple[Step, ...], str]], count: int) -> list[tuple[tuple[Step, ...], str]]:
    """The first `count` by score; of those with the same score, which do the same, two."""
    kept, times = [], Counter()
    for score, frame, mirror in sorted(scored, key=lambda each: each[0]):
        times[score] += 1
        if times[score] <= 2 and len(kept) < count:
            kept.append((frame, mirror))
    return kept


def _margins_edited(frame: tuple[Step, ...]):
    """The frame with other roundings of its sizes and margins, one or two at once."""
    choices = []
    for step in frame:
        names = ("long_side", "centring", "fraction_rounding")
        choices.append([effective(step), *(edited for name, edited in step_edits(step) if name in names)])
    return product(*choices)


def _with_colour(trials: Trials, frame: tuple[Step, ...], decode: Decode, sample: list[int]) -> Outcome:
    """The best colour, polarity and way of taking values, tried together: each hides the others."""
    channels = trials.material.channels
    tensor = trials.material.tensor
    colours = ("rgb", "bgr", "grey") if channels == 3 else ("grey",)
    best: Outcome | None = None
    kinds = spec.PER_IMAGE if tensor.dtype == "float32" else ("none",)
    for colour, per_image in product(colours, kinds):
        inlet = Inlet(
            effective_decode(replace(decode, colour=colour), channels), frame, Values(per_image=per_image), tensor
        )
        inlet = solve_pad_colour(trials, inlet, sample)
        for polarity in spec.POLARITIES if per_image != "none" else ("as-is",):
            outcome = trials.attempt(replace(inlet, decode=replace(inlet.decode, polarity=polarity)), sample)
            if best is None or outcome.order < best.order:
                best = outcome
    return _upright_values(trials, best, sample)


def _upright_values(trials: Trials, outcome: Outcome, sample: list[int]) -> Outcome:
    """The same with dark pixels as the smaller numbers: what falls with the pixels is inverted first."""
    values = outcome.inlet.values
    falling = values.range[1] < values.range[0] or min(values.std or (1,)) < 0
    if values.per_image != "none" or not falling:
        return outcome
    polarity = "as-is" if outcome.inlet.decode.polarity == "inverted" else "inverted"
    decode = replace(outcome.inlet.decode, polarity=polarity)
    return trials.attempt(solve_pad_colour(trials, replace(outcome.inlet, decode=decode), sample), sample)


def _descend(trials: Trials, outcome: Outcome, sample: list[int], pairs: bool = False) -> Outcome:
    """Single edits, then colours, then perhaps pairs of edits of the resize, as long as something improves."""

    def best_of(edits) -> Outcome:
        return min(trials.all(edits, sample), key=lambda each: each.order, default=outcome)

    while outcome.largest >= EXACT:
        best = best_of(_exact_edits(outcome.inlet))
        if best.order >= outcome.order:
            best = best_of(_colour_edits(outcome.inlet))
        if pairs and best.order >= outcome.order and outcome.mean >= EXACT:
            best = best_of(two for one in _resize_edits(outcome.inlet) for two in _resize_edits(one))
        if best.order >= outcome.order:
            return outcome
        outcome = best
    return outcome


def _exact_edits(inlet: Inlet):
    """Edits that are worth an exact run: not those of images of other kinds, and no polarity, which the values tell."""
    apart = ("decode.exif", "decode.transparency", "decode.sixteen_bit", "decode.polarity", "decode.mirror")
    return [edited for name, edited in single_edits(inlet) if name not in apart]


def _colour_edits(inlet: Inlet):
    """Colours that were solved may be a level off: each next to them."""
    for position, step in enumerate(inlet.frame):
        if isinstance(step, Pad):
            yield from (with_step(inlet, position, replace(step, colour=each)) for each in _next_colours(step.colour))
    if inlet.decode.transparency != "drop":
        yield from (_decoding(inlet, transparency=each) for each in _next_colours(inlet.decode.transparency))


def _next_colours(colour: str):
    """The colours that differ from "#rrggbb" by a level or two in one channel, or by one in all."""
    levels = np.array([int(colour[position : position + 2], 16) for position in (1, 3, 5)])
    single = np.eye(3, dtype=int)
    for by in (*single, *2 * single, np.ones(3, int)):
        for moved in (levels - by, levels + by):
            if moved.min() >= 0 and moved.max() <= 255:
                yield "#" + "".join(f"{level:02x}" for level in moved)


def _resize_edits(inlet: Inlet):
    for position, step in enumerate(inlet.frame):
        if isinstance(step, Resize):
            for name, edited in step_edits(step):
                if name in ("rounding", "edges", "grid", "antialias", "cubic", "filter"):
                    yield with_step(inlet, position, edited)


def _other_kinds(trials: Trials, inlet: Inlet, sample: list[int]) -> Inlet:
    """Fields that only rotated, transparent or 16-bit images determine, each tried on such images and the sample."""
    material = trials.material

    def choose(images: list[int], candidates: list[Inlet]) -> Inlet:
        together = [*sample, *(index for index in images[:4] if index not in sample)]
        return min(trials.all(candidates, together), key=lambda each: each.order).inlet

    if material.deep:
        inlet = choose(material.deep, [_decoding(inlet, sixteen_bit=filtering) for filtering in spec.SIXTEEN_BIT[1:]])
    if material.turned:
        opaque = [index for index in material.turned if index not in material.see_through] or material.turned
        inlet = choose(opaque, [_decoding(inlet, exif=filtering) for filtering in spec.EXIF])
    if material.see_through:
        grounds = dict.fromkeys(["drop", *solve_ground(trials, inlet, material.see_through[:4]), "#ffffff", "#000000"])
        inlet = choose(material.see_through, [_decoding(inlet, transparency=each) for each in grounds])
    return inlet


def _decoding(inlet: Inlet, **choice) -> Inlet:
    return replace(inlet, decode=replace(inlet.decode, **choice))


def simplest(trials: Trials, outcome: Outcome, images: list[int]) -> Outcome:
    """The same inlet with every choice as usual that these images do not contradict."""
    for usual in _more_usual(outcome.inlet):
        simpler = usual(outcome.inlet)
        if simpler != outcome.inlet:
            attempt = trials.attempt(simpler, images)
            if attempt.order <= outcome.order:
                outcome = attempt
    return outcome


def _more_usual(inlet: Inlet):
    """Functions that set one field to what it is when left out."""
    for name in Decode.__dataclass_fields__:
        if name not in ("colour", "grey_channels") and getattr(inlet.decode, name) != getattr(Decode(), name):
            yield lambda now, name=name: _decoding(now, **{name: getattr(Decode(), name)})
    for position, step in enumerate(inlet.frame):
        for name in type(step).__dataclass_fields__:
            if name in ("size", "short_side", "within", "fraction", "aspect"):
                continue
            yield lambda now, position=position, name=name: _step_as_usual(now, position, name)


def _step_as_usual(inlet: Inlet, position: int, name: str) -> Inlet:
    step = inlet.frame[position]
    edited = effective(replace(step, **{name: getattr(type(step)(), name)}))
    return with_step(inlet, position, edited)
