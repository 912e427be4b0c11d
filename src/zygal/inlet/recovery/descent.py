"""From an inlet that is nearly right to one that is: single edits as long as something improves."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace

import numpy as np

from zygal.inlet.edits import effective, fits_together, single_edits, step_edits, with_step
from zygal.inlet.recovery.colours import coloured
from zygal.inlet.recovery.conventions import CONVENTIONS, in_the_way_of
from zygal.inlet.recovery.sampling import has_colour
from zygal.inlet.recovery.trial import Outcome, Trials
from zygal.inlet.specification import Crop, Decode, Inlet, Pad, Resize

EXACT = 0.02
"""Mean difference in grey levels below which nothing better is looked for: float32's own is a tenth of it."""
_NEARLY = 0.7
"""Mean difference in grey levels above which pairs of edits are not tried: they have not been seen to help."""
PAIRS_SECONDS, DESCENT_SECONDS = 18.0, 28.0
"""Seconds from the start of a recovery after which pairs of edits, and then further edits, are given up."""
_ALIKE = 0.003
"""Difference of means in grey levels of inlets that few pixels do not tell apart."""
_APART = (
    "decode.exif",
    "decode.transparency",
    "decode.sixteen_bit",
    "decode.polarity",
    "decode.mirror",
    "values.per_image",
)
"""Edits for images of other kinds, and those that the values stage or correlation tells."""
_OF_RESAMPLING = (
    "rounding",
    "edges",
    "grid",
    "antialias",
    "cubic",
    "filter",
    "grid_scale",
    "prefilter",
    "scale",
    "order",
)


def best_of(trials: Trials, edits: Iterable[Inlet], images: list[int]) -> Outcome:
    """The edit that leaves least."""
    return min(trials.all(edits, images), key=lambda each: each.order)


def descend(trials: Trials, outcome: Outcome, sample: list[int], pairs: bool = True) -> Outcome:
    """Single edits, then colours, then perhaps pairs of edits, as long as something improves."""
    sample = sorted(sample)
    outcome = trials.attempt(outcome.inlet, sample)
    while outcome.largest >= EXACT:
        best = _best_by_stages(trials, _single(outcome.inlet), sample, outcome)
        if best.order >= outcome.order:
            best = min(trials.all(_colour_edits(outcome.inlet), sample), key=lambda each: each.order, default=outcome)
        hopeless = trials.material.hopeless_after(PAIRS_SECONDS)
        if pairs and best.order >= outcome.order and EXACT <= outcome.mean < _NEARLY and not hopeless:
            best = _best_by_stages(trials, _pairs(outcome.inlet), sample, outcome)
        if best.order >= outcome.order:
            return outcome
        outcome = best
        if trials.material.hopeless_after(DESCENT_SECONDS):
            break
    return outcome


def _best_by_stages(trials: Trials, edits: list[Inlet], images: list[int], now: Outcome) -> Outcome:
    """The best of many edits: those that do not win on one image, or two, are not run on the others."""
    edits = list(dict.fromkeys(edits))
    # The images that the present inlet explains worst tell most.
    images = sorted(images, key=lambda index: trials.attempt(now.inlet, [index]).order, reverse=True)
    for count in (1, 2):
        if len(images) <= count or len(edits) < 8:
            break
        few = images[:count]
        limit = trials.attempt(now.inlet, few).order
        scored = [each for each in trials.all(edits, few) if each.order <= limit]
        edits = [each.inlet for each in sorted(scored, key=lambda each: each.order)[: 24 // count]]
    return min(trials.all(edits, sorted(images)), key=lambda each: each.order, default=now)


def _single(inlet: Inlet) -> list[Inlet]:
    edits = [edited for name, edited in single_edits(inlet) if name not in _APART]
    return [*edits, *other_conventions(inlet)]


def other_conventions(inlet: Inlet) -> list[Inlet]:
    """ "This library for that" is one edit."""
    resizes = [(place, step) for place, step in enumerate(inlet.frame) if isinstance(step, Resize)]
    made = (
        with_step(inlet, place, effective(in_the_way_of(step, way))) for place, step in resizes for way in CONVENTIONS
    )
    return [edited for edited in made if edited != inlet and fits_together(edited)]


def _pairs(inlet: Inlet) -> list[Inlet]:
    """Two edits at once: of the decoding and a convention, or two of one resize."""
    decodings = [edited for name, edited in single_edits(inlet) if name.startswith("decode.") and name not in _APART]
    pairs = [other for edited in decodings for other in other_conventions(edited)]
    for one in _resize_edits(inlet):
        pairs += _resize_edits(one)
    return [edited for edited in dict.fromkeys(pairs) if edited != inlet]


def _resize_edits(inlet: Inlet) -> list[Inlet]:
    made = (
        with_step(inlet, place, edited)
        for place, step in enumerate(inlet.frame)
        if isinstance(step, Resize)
        for name, edited in step_edits(step)
        if name in _OF_RESAMPLING
    )
    return [edited for edited in made if fits_together(edited)]


def _colour_edits(inlet: Inlet):
    """Colours that were solved may be a level off: each next to them."""
    for place, step in enumerate(inlet.frame):
        if has_colour(step):
            now = step.colour if isinstance(step, Pad) else step.missing
            yield from (with_step(inlet, place, coloured(step, each)) for each in _next_colours(now))
    if inlet.decode.transparency != "drop":
        yield from (
            replace(inlet, decode=replace(inlet.decode, transparency=each))
            for each in _next_colours(inlet.decode.transparency)
        )


def _next_colours(colour: str):
    """The colours that differ from "#rrggbb" by a level or two in one channel, or by one in all."""
    levels = np.array([int(colour[position : position + 2], 16) for position in (1, 3, 5)])
    single = np.eye(3, dtype=int)
    for by in (*single, *2 * single, np.ones(3, int)):
        for moved in (levels - by, levels + by):
            if moved.min() >= 0 and moved.max() <= 255:
                yield "#" + "".join(f"{level:02x}" for level in moved)


def by_whole_images(trials: Trials, whole: Trials, outcome: Outcome, images: list[int]) -> Outcome:
    """What a few rows and columns do not tell, one pixel in a thousand, all pixels of the images that are explained
    worst may."""
    inlet = outcome.inlet
    for _ in range(2):
        left = {index: whole.attempt(inlet, [index]) for index in images}
        worst = sorted(images, key=lambda index: left[index].order, reverse=True)[:2]
        now = whole.attempt(inlet, worst)
        if now.largest < EXACT or now.mean > _NEARLY or inlet.values.per_image != "none":
            break
        limit = trials.attempt(inlet, worst).mean + _ALIKE
        alike = [each.inlet for each in trials.all(_single(inlet), worst) if each.mean <= limit]
        best = min(whole.all(alike, worst), key=lambda each: each.order, default=now)
        if best.mean >= now.mean:
            break
        inlet = best.inlet
    return outcome if inlet == outcome.inlet else trials.attempt(inlet, images)


def by_habit(inlet: Inlet) -> Inlet:
    """Where these images cannot tell how nearest pixels on the asymmetric grid are rounded, as the likely library does
    it.

    OpenCV reads BGR and applies the EXIF rotation unless it is told not to; the others, in float32, do neither.
    """
    opencv = inlet.decode.colour == "bgr" or inlet.decode.exif == "apply"
    steps = [
        replace(step, scale="float64" if opencv else "float32")
        if isinstance(step, Resize) and step.filter == "nearest" and step.grid == "asymmetric"
        else step
        for step in inlet.frame
    ]
    return replace(inlet, frame=tuple(steps))


def simplest(trials: Trials, outcome: Outcome, images: list[int]) -> Outcome:
    """The same inlet with every choice as usual that these images do not contradict."""
    for usual in _more_usual(outcome.inlet):
        simpler = usual(outcome.inlet)
        if simpler != outcome.inlet and fits_together(simpler):
            attempt = trials.attempt(simpler, images)
            if attempt.order <= outcome.order:
                outcome = attempt
    likely = trials.attempt(by_habit(outcome.inlet), images)
    return likely if likely.order <= outcome.order else outcome


def _more_usual(inlet: Inlet):
    """Functions that set one field to what it is when left out."""
    for name in Decode.__dataclass_fields__:
        if name == "polarity" and inlet.values.per_image != "none":
            # A few rows and columns do not tell it where each image has values of its own.
            continue
        if name not in ("colour", "grey_channels") and getattr(inlet.decode, name) != getattr(Decode(), name):
            yield lambda now, name=name: replace(now, decode=replace(now.decode, **{name: getattr(Decode(), name)}))
    for place, step in enumerate(inlet.frame):
        for name in type(step).__dataclass_fields__:
            # What a step does at all stays, and so does the rounding of nearest pixels: the usual one is nobody's on
            # that grid.
            if name in (
                "size",
                "short_side",
                "within",
                "cover",
                "factor",
                "fraction",
                "aspect",
                "margins",
                "sigma",
                "taps",
            ):
                continue
            if name == "scale" and isinstance(step, Resize) and step.grid == "asymmetric":
                continue
            yield lambda now, place=place, name=name: _step_as_usual(now, place, name)


def _step_as_usual(inlet: Inlet, place: int, name: str) -> Inlet:
    step = inlet.frame[place]
    if isinstance(step, Crop) and name == "missing" and step.missing:
        return with_step(inlet, place, replace(step, missing=None))
    return with_step(inlet, place, effective(replace(step, **{name: getattr(type(step)(), name)})))
