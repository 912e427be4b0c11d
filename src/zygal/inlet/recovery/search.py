"""Works the whole inlet out from images and the tensors that training made of them.

From rough to exact: where the tensor lies on the image, by correlation; which frame and which library's resampling, on
some rows and columns of a few images; then whole inlets, trying single edits as long as something improves, and last
what people write more rarely. The values stage is never searched but solved.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable
from dataclasses import dataclass, replace
from itertools import product

from zygal.inlet import specification as spec
from zygal.inlet.edits import GREY_FORMULAS, effective_decode
from zygal.inlet.recovery import rare
from zygal.inlet.recovery.coarse import Cutter, find_placements
from zygal.inlet.recovery.colours import solve_pad_colour
from zygal.inlet.recovery.conventions import CONVENTIONS, SHAPES, with_convention
from zygal.inlet.recovery.descent import EXACT, best_of, by_whole_images, descend, simplest
from zygal.inlet.recovery.frames import Frame, frames_of, margins_edited
from zygal.inlet.recovery.material import Material, telling
from zygal.inlet.recovery.trial import Outcome, Trials
from zygal.inlet.specification import Decode, Inlet, Values
from zygal.machine.pool import ThreadPool

Progress = Callable[[str, float], None]
_PLACES, _EDITED, _FRAMES, _STARTS = 30, 12, 12, 10
_ALIKE = 4
_RARE_SECONDS = 26.0
"""Seconds from the start of a recovery after which rarer steps are given up."""
_PROMISING = 0.1
"""A frame that leaves more of the variance than this is not where the tensor lies, so single edits help little."""
_BENT, _STRAIGHT = 0.5, 0.3
"""Mean differences in grey levels of all images together, and of one by itself, that speak for values that differ by
image."""
_ROUGH = 16
"""Rows and columns of a first look at a frame."""
_MOST_IMAGES = 16


@dataclass(frozen=True)
class Found:
    """The best inlet with what it leaves over the images that were searched with, and what else was tried."""

    outcome: Outcome
    trials: Trials
    images: list[int]


def search(material: Material, progress: Progress = lambda what, part: None, among: list[int] | None = None) -> Found:
    """The inlet that explains what the images of the material (or some `among` them) became."""
    trials = Trials(material)
    usable = [index for index in (material.plain or material.readable) if among is None or index in among] or list(
        among
    )
    sample = telling(material, usable, 4)
    decode, starts, left = _starts(trials, sample, progress)
    progress("trying inlets in full", 0.5)
    outcomes = [_with_colour(trials, frame, replace(decode, mirror=mirror), sample) for frame, mirror in starts]
    outcomes.sort(key=lambda each: (each.order, len(each.inlet.frame)))
    best = outcomes[0]
    for number, outcome in enumerate(outcomes[: 3 if left < _PROMISING else 1]):
        if best.mean < EXACT:
            break
        progress("trying inlets in full", 0.5 + 0.05 * number)
        best = min(best, descend(trials, outcome, sample), key=lambda each: each.order)
    if best.mean >= EXACT and left < 0.5:
        progress("trying rarer steps", 0.7)
        best = _rarer(trials, best, starts, sample)
    progress("trying other image kinds", 0.85)
    images = _spread_out(material, among)
    inlet = rare.other_kinds(trials, best.inlet, sample, images)
    images = sorted(set(sample) | set(images))
    # What the sample could not tell, the other images may.
    best = trials.attempt(inlet, images)
    if best.mean < rare.NEAR:
        best = descend(trials, best, images, pairs=False)
    plain = [index for index in images if index in material.plain]
    best = _by_formula(trials, best, plain if len(plain) > 2 else images, images)
    whole = Trials(material, whole=True)
    best = by_whole_images(trials, whole, simplest(trials, best, images), images)
    return Found(best, trials, images)


def _spread_out(material: Material, among: list[int] | None) -> list[int]:
    """Up to so many images of all kinds, the rare kinds first."""
    rarer = [*material.turned[:4], *material.see_through[:4], *material.deep[:4]]
    order = dict.fromkeys([*rarer, *material.plain, *material.readable])
    return [index for index in order if among is None or index in among][:_MOST_IMAGES]


def _rarer(trials: Trials, best: Outcome, starts: list[tuple[Frame, str]], sample: list[int]) -> Outcome:
    """What people write more rarely, tried one kind after the other until something explains all."""
    first = best
    for kind in rare.KINDS:
        found = kind(trials, first, starts, sample)
        if found is not None and found.mean < first.mean:
            best = min(best, descend(trials, found, sample), key=lambda each: each.order)
        if best.mean < EXACT or trials.material.hopeless_after(_RARE_SECONDS):
            break
    return best


def _starts(trials: Trials, sample: list[int], progress: Progress) -> tuple[Decode, list[tuple[Frame, str]], float]:
    """How to decode the sample, the frames with their mirroring that are worth trying with colours, and what the best
    leaves."""
    material = trials.material
    guesses = [Decode()]
    if not set(sample) <= set(material.plain):
        grounds = ("drop", "#ffffff", "#000000") if material.see_through else ("drop",)
        depths = spec.SIXTEEN_BIT[1:] if material.deep else ("refuse",)
        guesses = [Decode("rgb", *rest) for rest in product(spec.EXIF if material.turned else ("ignore",), grounds)]
        guesses = [replace(guess, sixteen_bit=depth) for guess, depth in product(guesses, depths)]
    tried = []
    for number, guess in enumerate(guesses):
        progress("locating the frame", 0.2 * number / len(guesses))
        pictures = [material.array(index, guess) for index in sample[:3]]
        positions = find_placements(Cutter(pictures, material.recorded[sample[:3]]), _PLACES)
        tried.append((positions[0].unexplained, number, positions))
    _, number, positions = min(tried, key=lambda each: each[:2])
    decode = guesses[number]
    progress("testing the resampling", 0.2)
    sizes = [material.array(index, decode).shape[:2] for index in sample]
    places = [(each, list(frames_of(each, material.size, sizes))) for each in positions]
    frames = dict.fromkeys((frame, each.mirror) for each, of_place in places for frame in of_place)
    rough = Trials(material, samples=_ROUGH)
    shapes = _likely_shapes(rough, decode, list(frames), sample)
    progress("testing the resampling", 0.3)
    likely = dict.fromkeys((frame, each.mirror) for each, of_place in places[:_EDITED] for frame in of_place)
    wider = dict.fromkeys((edited, mirror) for frame, mirror in likely for edited in margins_edited(frame))
    shaped = [
        (with_convention(frame, shape), mirror)
        for frame, mirror in dict.fromkeys([*frames, *wider])
        for shape in shapes
    ]
    frames = _sieved(rough, trials, decode, dict.fromkeys(shaped), sample, _FRAMES)
    progress("testing the resampling", 0.4)
    ways = [(with_convention(frame, convention), mirror) for convention in CONVENTIONS for frame, mirror in frames]
    kept = _sieved(rough, trials, decode, dict.fromkeys(ways), sample, _STARTS)
    return decode, kept, trials.unexplained(kept[0][0], replace(decode, mirror=kept[0][1]), sample[:3])


def _likely_shapes(rough: Trials, decode: Decode, frames: list[tuple[Frame, str]], sample: list[int]) -> list:
    """The three kinds of resampling that suit the first frames best."""
    best = []
    for shape in SHAPES:
        ways = [(with_convention(frame, shape), mirror) for frame, mirror in frames[:40]]
        best.append(min(score for score, _ in _scored(rough, decode, ways, sample[:1])))
    return [shape for _, shape in sorted(zip(best, SHAPES), key=lambda pair: pair[0])[:3]]


def _sieved(
    rough: Trials, trials: Trials, decode: Decode, ways: Iterable[tuple[Frame, str]], sample: list[int], count: int
):
    """The ways that explain most: what few pixels, one image or two speak against is not tried on more."""
    ways = list(ways)
    few = max(4 * count, len(ways) // 6)
    for judge, images, left, alike in (
        (rough, sample[:1], few, few // 2),
        (rough, sample[:2], 3 * count, count),
        (trials, sample[:3], count, _ALIKE),
    ):
        ways = _thinned(_scored(judge, decode, ways, images), left, alike)
    return ways


def _scored(trials: Trials, decode: Decode, ways: Iterable[tuple[Frame, str]], images: list[int]):
    ways = list(ways)
    left = ThreadPool().map(lambda way: trials.unexplained(way[0], replace(decode, mirror=way[1]), images), ways)
    return list(zip(left, ways))


def _thinned(scored: list[tuple[float, tuple[Frame, str]]], count: int, alike: int) -> list[tuple[Frame, str]]:
    """The first `count` by score; of those with the same score, which these images do not tell apart, so many at most,
    those of fewer steps first."""
    kept, times = [], Counter()
    for score, each in sorted(scored, key=lambda pair: (round(pair[0], 7), len(pair[1][0]))):
        key = round(score, 7)
        times[key] += 1
        if times[key] <= alike and len(kept) < count:
            kept.append(each)
    return kept


def _with_colour(trials: Trials, frame: Frame, decode: Decode, sample: list[int]) -> Outcome:
    """The best colour and way of taking values, tried together: each hides the others."""
    channels, tensor = trials.material.channels, trials.material.tensor
    best: Outcome | None = None
    for colour in ("rgb", "bgr", "grey") if channels == 3 else ("grey",):
        for weights in GREY_FORMULAS[::2] if colour == "grey" else GREY_FORMULAS[:1]:
            decoding = effective_decode(replace(decode, colour=colour, grey_weights=weights), channels)
            for per_image in (
                ("none", "standardise", "standardise-channels") if tensor.dtype == "float32" else ("none",)
            ):
                # Where values are not solved, the polarity is not either.
                for polarity in spec.POLARITIES if tensor.dtype == "uint8" else ("as-is",):
                    turned = replace(decoding, polarity=polarity)
                    inlet = solve_pad_colour(trials, Inlet(turned, frame, Values(per_image=per_image), tensor), sample)
                    outcome = trials.attempt(inlet, sample)
                    # A line for each image explains at least as much as one for all, so it must explain more.
                    if best is None or outcome.mean < (best.mean if per_image == "none" else 0.9 * best.mean - 0.003):
                        best = outcome
    return _upright_values(trials, best, sample)


def _upright_values(trials: Trials, outcome: Outcome, sample: list[int]) -> Outcome:
    """The same with dark pixels as the smaller numbers: what falls with the pixels is inverted first."""
    values = outcome.inlet.values
    falling = values.range[1] < values.range[0] or min(values.std or (1,)) < 0
    if values.per_image != "none":
        falling = sum(_falls(trials, outcome.inlet, index) for index in sample) > len(sample) / 2
    if not falling:
        return outcome
    polarity = "as-is" if outcome.inlet.decode.polarity == "inverted" else "inverted"
    decode = replace(outcome.inlet.decode, polarity=polarity)
    return trials.attempt(solve_pad_colour(trials, replace(outcome.inlet, decode=decode), sample), sample)


def _falls(trials: Trials, inlet: Inlet, index: int) -> bool:
    """Whether what was recorded of an image falls where its pixels rise."""
    pixels, recorded = trials.pixels(index, inlet).astype(float), trials.recorded(index).astype(float)
    return bool(((pixels - pixels.mean()) * (recorded - recorded.mean())).sum() < 0)


def _by_formula(trials: Trials, outcome: Outcome, images: list[int], every: list[int]) -> Outcome:
    """Where each image has values of its own, or is explained by itself but not with the others: the formula and the
    polarity, by whole images, plain ones if there are enough; then the fields that the other kinds among `every` image
    determine."""
    if outcome.inlet.values.per_image == "none":
        alone = sorted(trials.attempt(outcome.inlet, [index]).mean for index in images)
        if outcome.mean < _BENT or alone[len(alone) // 2] > _STRAIGHT or trials.material.tensor.dtype == "uint8":
            return outcome
    whole = Trials(trials.material, whole=True)
    edits = [
        replace(
            outcome.inlet, values=Values(per_image=per_image), decode=replace(outcome.inlet.decode, polarity=polarity)
        )
        for per_image in spec.PER_IMAGE
        for polarity in spec.POLARITIES
    ]
    # Images that use the whole range look alike by several formulas, so what a few cannot tell is run on all.
    tried = whole.all(edits, images[:3])
    least = min(each.mean for each in tried)
    found = best_of(whole, [each.inlet for each in tried if each.mean <= least + EXACT], images)
    if found.mean > _STRAIGHT:
        # No formula says what each image's values are: the images may fall into groups.
        return trials.attempt(replace(outcome.inlet, values=Values()), every)
    inlet = rare.other_kinds(whole, found.inlet, images[:2], every) if len(every) > len(images) else found.inlet
    again, exact = trials.attempt(inlet, every), whole.attempt(inlet, every)
    if exact.mean > _BENT:
        return trials.attempt(replace(outcome.inlet, values=Values()), every)
    return Outcome(exact.inlet, max(again.mean, exact.mean), max(again.largest, exact.largest))
