"""Images that no single inlet explains together: those that two or three inlets explain, and what separates them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from zygal.inlet.decode import border_mean
from zygal.inlet.edits import single_edits
from zygal.inlet.frame import as_array
from zygal.inlet.recovery.descent import descend
from zygal.inlet.recovery.material import Material
from zygal.inlet.recovery.residuals import EXPLAINED, ONE_LEVEL, ImageResidual, residuals_of
from zygal.inlet.recovery.search import Found, search
from zygal.inlet.specification import Decode, Inlet, Tensor, departures
from zygal.inlet.values import to_tensor

_MOST_SEARCHES = 2
_SEARCH_SECONDS = 18.0
"""Seconds from the start of a recovery after which no other search is begun."""


@dataclass(frozen=True)
class Group:
    """Images that one inlet explains (None: that no inlet was found for). separated_by: a property that they share and
    the others have not, as words, or None if no such property is known. changes: the fields in which its inlet differs
    from the first group's, with both values."""

    images: tuple[str, ...]
    inlet: Inlet | None
    separated_by: str | None
    changes: tuple[tuple[str, object, object], ...] = ()


def regrouped(
    material: Material, found: Found, per_image: list[ImageResidual]
) -> tuple[Found, list[ImageResidual], tuple[Group, ...]]:
    """The inlet that explains most images, its residuals, and the groups. What was found stays where nothing better
    is."""
    searches = 0
    found, per_image = _straightened(material, found, per_image)
    explained = {each.number for each in per_image if each.explained}
    if not explained:
        for among in _classes(material):
            if searches == _MOST_SEARCHES or material.hopeless_after(_SEARCH_SECONDS):
                break
            searches += 1
            other = search(material, among=among)
            residuals = residuals_of(material, other.outcome.inlet)
            if any(each.explained for each in residuals):
                found, per_image = _straightened(material, other, residuals)
                explained = {each.number for each in per_image if each.explained}
                break
    if not explained:
        return found, per_image, ()
    groups = [Group(_names(material, explained), found.outcome.inlet, _separation(material, explained))]
    left = [each.number for each in per_image if each.number not in explained]
    for _ in range(2):
        inlet, these = _other_inlet(material, found, left, searches)
        if not these:
            break
        changes = tuple(departures(found.outcome.inlet, inlet))
        groups.append(Group(_names(material, these), inlet, _separation(material, these), changes))
        left = [number for number in left if number not in these]
    if left:
        groups.append(Group(_names(material, left), None, _separation(material, set(left))))
    return found, per_image, tuple(groups)


def _straightened(
    material: Material, found: Found, per_image: list[ImageResidual]
) -> tuple[Found, list[ImageResidual]]:
    """The same inlet with its values solved from the images alone that it explains by themselves: the others bend
    them."""
    inlet, trials = found.outcome.inlet, found.trials
    if inlet.values.per_image != "none" or inlet.tensor.dtype == "uint8":
        return found, per_image
    rising: dict[bool, list[int]] = {True: [], False: []}
    for number in material.readable:
        alone = trials.attempt(inlet, [number])
        if alone.mean <= EXPLAINED / 2 and alone.largest <= EXPLAINED + ONE_LEVEL:
            ends = np.array([[[0] * inlet.channels, [255] * inlet.channels]], np.uint8)
            black, white = to_tensor(ends, alone.inlet.values, Tensor("NHWC"))[0][0]
            rising[bool((white > black).all())].append(number)
    good = max(rising.values(), key=len)
    if not good:
        return found, per_image
    outcome = trials.attempt(inlet, good)
    residuals = residuals_of(material, outcome.inlet)
    now, before = (sum(each.explained for each in those) for those in (residuals, per_image))
    return (Found(outcome, trials, found.images), residuals) if now >= before else (found, per_image)


def _names(material: Material, numbers) -> tuple[str, ...]:
    return tuple(material.paths[number].name for number in sorted(numbers))


def _other_inlet(material: Material, found: Found, left: list[int], searches: int) -> tuple[Inlet | None, set[int]]:
    """An inlet that explains some of the images that are left: a single edit of the first, one near it, or a search."""
    if not left:
        return None, set()
    candidates = [edited for _, edited in single_edits(found.outcome.inlet)]
    candidates = [
        replace(each, values=found.outcome.inlet.values)
        for each in candidates
        if each.values.per_image == found.outcome.inlet.values.per_image
    ]
    outcomes = found.trials.all(candidates, left[:1])
    near = sorted(outcomes, key=lambda each: each.order)[:3]
    first = found.outcome.inlet
    polarity = "as-is" if first.decode.polarity == "inverted" else "inverted"
    tried = [replace(first, decode=replace(first.decode, polarity=polarity))]
    tried += [replace(each.inlet, values=first.values) for each in near] + [each.inlet for each in near[:1]]
    if len(left) > 1 and searches < _MOST_SEARCHES and not material.hopeless_after(_SEARCH_SECONDS):
        tried.append(search(material, among=left).outcome.inlet)
    elif near:
        tried.append(descend(found.trials, near[0], left[:2]).inlet)
    best: tuple[Inlet | None, set[int]] = (None, set())
    for inlet in dict.fromkeys(tried):
        these = {each.number for each in residuals_of(material, inlet, left) if each.explained}
        if len(these) > len(best[1]):
            best = inlet, these
        if len(these) == len(left):
            break
    return best


def _classes(material: Material) -> list[list[int]]:
    """Classes of images by what is known of their files, the larger ones first."""
    found = []
    for of in (lambda number: material.kinds[number][0], lambda number: material.kinds[number][1]):
        by: dict[str, list[int]] = {}
        for number in material.readable:
            by.setdefault(of(number), []).append(number)
        if len(by) > 1:
            found += [each for each in by.values() if len(each) > 1]
    return sorted(found, key=len, reverse=True)


def _separation(material: Material, these: set[int]) -> str | None:
    """A property that these images share and the others have not, as the end of "images that ..."."""
    others = [number for number in material.readable if number not in these]
    if not others:
        return None
    for of, words in _KINDS:
        values = {of(material, number) for number in these}
        if len(values) == 1 and not values & {of(material, number) for number in others}:
            return words.format(values.pop())
    for of, words in _AMOUNTS:
        inside, outside = ([of(material, number) for number in among] for among in (these, others))
        if min(inside) > max(outside):
            return words.format("above", f"{(min(inside) + max(outside)) / 2:.0f}")
        if max(inside) < min(outside):
            return words.format("below", f"{(max(inside) + min(outside)) / 2:.0f}")
    return None


def _pixels(material: Material, number: int) -> np.ndarray:
    return as_array(material.picture(number, Decode(sixteen_bit="high-byte"))).mean(axis=2)


def _border(material: Material, number: int) -> float:
    return border_mean(_pixels(material, number))


_KINDS: tuple[tuple[Callable, str], ...] = (
    (lambda material, number: "is turned by EXIF" if number in material.turned else "is not turned by EXIF", "{}"),
    (lambda material, number: material.kinds[number][0], "is a {} file"),
    (lambda material, number: material.kinds[number][1], "has pixels of the mode {}"),
    (lambda material, number: "has transparent parts" if number in material.see_through else "is opaque", "{}"),
    (
        lambda material, number: (
            material.sizes[number][0] > material.sizes[number][1] and "is upright" or "is not upright"
        ),
        "{}",
    ),
)
_AMOUNTS: tuple[tuple[Callable, str], ...] = (
    (_border, "has a border with a mean {} {} grey levels"),
    (lambda material, number: float(_pixels(material, number).mean()), "has a mean {} {} grey levels"),
    (lambda material, number: min(material.sizes[number]), "has a short side {} {} pixels"),
    (lambda material, number: max(material.sizes[number]), "has a long side {} {} pixels"),
    (
        lambda material, number: min(material.sizes[number]) / max(material.sizes[number]) * 100,
        "has a short side {} {} % of the long one",
    ),
)
