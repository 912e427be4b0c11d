"""What people write more rarely, each kind a few candidates: reduction before a resize, two resizes, a blur; and the
fields that only images of other kinds tell."""

from __future__ import annotations

from dataclasses import replace
from itertools import product

from zygal.inlet import specification as spec
from zygal.inlet.edits import effective, fits_together
from zygal.inlet.recovery.colours import solve_ground, solve_pad_colour
from zygal.inlet.recovery.conventions import CONVENTIONS, LIBRARIES, in_the_way_of, with_convention
from zygal.inlet.recovery.trial import Outcome, Trials
from zygal.inlet.resampling import uses_pillow
from zygal.inlet.specification import Blur, Crop, Inlet, Resize, Step

NEAR = 6.0
"""Mean difference in grey levels above which an inlet is not worth being improved on all images."""
_ROUGH = 8
"""Rows and columns of a rough look, where the steps need nearly all of the picture for a few pixels."""
_SIDES = (256, 512, 299, 300, 320, 384, 400, 448, 480, 500, 600, 640)
_TWICE = (*LIBRARIES["Pillow"][:3], *LIBRARIES["OpenCV"][:3], LIBRARIES["PyTorch"][0])


def _best(trials: Trials, inlets, images: list[int]) -> Outcome | None:
    inlets = [inlet for inlet in dict.fromkeys(inlets) if fits_together(inlet)]
    few = sorted(trials.all(inlets, images[:2]), key=lambda each: each.order)
    few = [each for number, each in enumerate(few) if number < 6 or each.mean <= few[0].mean + 0.02][:40]
    return min(trials.all([each.inlet for each in few], images), key=lambda each: each.order, default=None)


def _bases(best: Outcome, starts) -> list[tuple[Step, ...]]:
    """The best frame, and some of the others that were likely with its mirroring."""
    frames = dict.fromkeys(
        [best.inlet.frame, *(frame for frame, mirror in starts if mirror == best.inlet.decode.mirror)]
    )
    return list(frames)[:6]


def reduced_first(trials: Trials, best: Outcome, starts, images: list[int]) -> Outcome | None:
    """Reduced to means of whole pixels before the resize, by the JPEG decoder too."""
    made = []
    material = trials.material
    files = sorted(
        (index for index in material.readable if material.is_jpeg(index) and index not in material.turned),
        key=lambda index: min(material.sizes[index]),
        reverse=True,
    )
    # The largest JPEG file is what the decoder reduces if any.
    images = list(dict.fromkeys([*images[:1], *files[:2], *images[1:]]))
    for step, *after in _bases(best, starts):
        for resize, least in _reductions(step) if isinstance(step, Resize) else ():
            made.append(
                replace(best.inlet, decode=replace(best.inlet.decode, jpeg_reduction=least), frame=(resize, *after))
            )
    return _best(trials, made, images)


def _reductions(step: Resize):
    """A resize with every way of being reduced before, and what the JPEG decoder is told to keep."""
    sides = dict.fromkeys([step.long_side, "closest-aspect"] if step.within else [step.long_side])
    for filter, long_side in product(("bicubic", "bilinear", "lanczos", "box", "hamming"), sides):
        plain = effective(replace(in_the_way_of(step, Resize(filter=filter)), long_side=long_side, grid_scale="sizes"))
        for gap, box in ((2.0, "whole"), (3.0, "whole"), (2.0, "unreduced"), (None, "whole")):
            resize = replace(plain, reduce_above=gap, box=box if plain.box == "whole" else plain.box)
            for least in _least_sizes(resize, gap, box):
                yield resize, least


def _least_sizes(step: Resize, gap: float | None, box: str) -> list[tuple[int, int] | None]:
    """What the decoder may be told to keep: the size that is asked for, times the gap."""
    size = step.size or step.within or step.cover or (step.short_side,) * 2
    if None in size:
        return [None]
    least = [tuple(int(side * (gap or 1)) for side in size)]
    if box == "whole":
        least += [None] if gap else [(256, 256)]
    return list(dict.fromkeys(least))


def two_resizes(trials: Trials, best: Outcome, starts, images: list[int]) -> Outcome | None:  # noqa: ARG001
    """A resize to an intermediate size, squashed or by the short side, and then to the tensor's."""
    frame, decode = best.inlet.frame, best.inlet.decode
    places = [place for place, step in enumerate(frame) if isinstance(step, Resize)]
    if len(places) != 1:
        return None
    rough = Trials(trials.material, samples=_ROUGH)
    (place,) = places
    final = frame[place]
    target = max(final.size or final.within or final.cover or (final.short_side or 0,))

    def twice(step: Resize, one: Resize, other: Resize) -> tuple[Step, ...]:
        both = effective(in_the_way_of(step, one)), effective(in_the_way_of(final, other))
        return (*frame[:place], *both, *frame[place + 1 :])

    sides = [
        side for side in dict.fromkeys([*_SIDES, target * 8 // 7, target * 2, round(target * 1.25)]) if side > target
    ]
    unsized = replace(final, size=None, within=None, cover=None, factor=None, short_side=None)
    first = [replace(unsized, size=(side, side)) for side in sides] + [
        replace(unsized, short_side=side) for side in sides
    ]
    scans = list(product((_TWICE[0], _TWICE[3]), (_TWICE[0], _TWICE[1], _TWICE[3])))
    likely = {step: min(rough.unexplained(twice(step, *ways), decode, images[:1]) for ways in scans) for step in first}
    ways = [twice(step, *ways) for step in sorted(first, key=likely.get)[:3] for ways in product(_TWICE, _TWICE)]
    ways = sorted(dict.fromkeys(ways), key=lambda each: rough.unexplained(each, decode, images[:1]))[:16]
    ways = sorted(ways, key=lambda each: rough.unexplained(each, decode, images[:2]))[:5]
    return _best(trials, [solve_pad_colour(trials, replace(best.inlet, frame=each), images) for each in ways], images)


def blurred_first(trials: Trials, best: Outcome, starts, images: list[int]) -> Outcome | None:
    """A Gaussian before everything."""
    blurs = [Blur(sigma, None, "three-boxes") for sigma in (1.0, 2.0, 0.5, 1.5, 3.0)]
    for taps, sigmas in (
        (3, (0.8, 0.5, 1.0)),
        (5, (1.1, 0.5, 1.0, 1.5, 2.0)),
        (7, (1.4, 1.0, 1.5, 2.0)),
        (9, (1.7, 2.0)),
        (11, (2.0,)),
    ):
        blurs += [Blur(sigma, taps) for sigma in sigmas]
    blurs += [Blur(taps=taps, kind="binomial") for taps in (3, 5)]
    decode = best.inlet.decode
    bases = dict.fromkeys(with_convention(frame, way) for frame in _bases(best, starts)[:3] for way in _TWICE)
    # One blur after the other: what it makes of a whole picture is kept for some of them only.
    scored = [
        (trials.unexplained((blur, *frame), decode, images[:1]), number, (blur, *frame))
        for blur in blurs
        for number, frame in enumerate(bases)
    ]
    found = [frame for _, _, frame in sorted(scored, key=lambda each: each[:2])[:8]]
    others = [with_convention(found[0], way) for way in CONVENTIONS]
    found += sorted(others, key=lambda each: trials.unexplained(each, decode, images[:1]))[:4]
    made = []
    for frame in dict.fromkeys(found):
        kinds = (
            [replace(frame[0], rounding=rounding) for rounding in spec.BLUR_ROUNDINGS] if frame[0].taps else [frame[0]]
        )
        made += [replace(best.inlet, frame=(blur, *frame[1:])) for blur in kinds]
    return _best(trials, made, images)


def reflected(trials: Trials, best: Outcome, starts, images: list[int]) -> Outcome | None:
    """Padding with the picture itself instead of a colour."""
    made = []
    for frame in _bases(best, starts):
        for place, step in enumerate(frame):
            if isinstance(step, spec.Pad):
                made += [
                    replace(
                        best.inlet, frame=(*frame[:place], effective(replace(step, border=border)), *frame[place + 1 :])
                    )
                    for border in spec.BORDERS[1:]
                ]
    return _best(trials, made, images)


def after_resize(trials: Trials, best: Outcome, starts, images: list[int]) -> Outcome | None:
    """Another framing of the whole picture: what a resize leaves is cropped or padded once more."""
    wanted = trials.material.size
    made = []
    for frame in _bases(best, starts):
        if len(frame) == 2 and isinstance(frame[1], Crop) and frame[1].size == wanted:
            made.append(replace(best.inlet, frame=(frame[0], replace(frame[1], missing="#000000"))))
    return _best(trials, [solve_pad_colour(trials, each, images) for each in made], images)


KINDS = (reflected, after_resize, reduced_first, two_resizes, blurred_first)


def other_kinds(trials: Trials, inlet: Inlet, sample: list[int], among: list[int]) -> Inlet:
    """Fields that only rotated, transparent or 16-bit images, palettes and JPEG files determine, each tried on such
    images."""
    material = trials.material

    def decoding(**choice) -> Inlet:
        return replace(inlet, decode=replace(inlet.decode, **choice))

    def choose(images: list[int], candidates: list[Inlet], alone: bool = False) -> Inlet:
        """The candidate that explains such images best, together with the sample or each with values of its own."""
        images = [index for index in images if index in among][:4]
        together = [*sample, *(index for index in images if index not in sample)]
        sets = [[index] for index in images] if alone else [together]
        left = [sum(trials.attempt(each, some).mean for some in sets) for each in candidates]
        return candidates[left.index(min(left))] if images else inlet

    if material.deep:
        inlet = choose(material.deep, [decoding(sixteen_bit=way) for way in spec.SIXTEEN_BIT[1:]])
    if material.turned:
        opaque = [index for index in material.turned if index not in material.see_through] or material.turned
        # Another image's polarity need not be its.
        inlet = choose(opaque, [decoding(exif=way) for way in spec.EXIF], alone=True)
    odd = [index for index in material.readable if material.is_odd(index) and index not in material.deep]
    if odd and any(isinstance(step, Resize) and uses_pillow(step) for step in inlet.frame):
        ways = [decoding(conversion=way) for way in dict.fromkeys([inlet.decode.conversion, *spec.CONVERSIONS])]
        inlet = choose(odd, [way for way in ways if fits_together(way)], alone=True)
    if material.see_through:
        grounds = dict.fromkeys(["drop", *solve_ground(trials, inlet, material.see_through[:4]), "#ffffff", "#000000"])
        inlet = choose(material.see_through, [decoding(transparency=each) for each in grounds])
    return inlet
