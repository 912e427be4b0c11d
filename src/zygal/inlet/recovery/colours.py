"""Colours solved from what was recorded: around padded pictures, and under transparent ones."""

from __future__ import annotations

from dataclasses import replace
from itertools import product

import numpy as np

from zygal.errors import ImageError
from zygal.inlet.recovery.fit import fit_line
from zygal.inlet.recovery.sampling import has_colour
from zygal.inlet.recovery.trial import Trials
from zygal.inlet.specification import Crop, Inlet, Pad, Step


def solve_pad_colour(trials: Trials, inlet: Inlet, images: list[int]) -> Inlet:
    """The inlet with the colour of its padding solved from what lies around the pictures."""
    if not any(has_colour(step) for step in inlet.frame):
        return inlet
    filled = [_with_pad_colour(inlet, colour) for colour in ("#000000", "#ffffff")]
    inner, outer = [], []
    for index in images:
        try:
            black, white = (trials.pixels(index, each).astype(np.float64) for each in filled)
        except (ImageError, ValueError):
            return inlet
        recorded = trials.recorded(index).astype(np.float64)
        if black.shape != recorded.shape:
            return inlet
        border = (np.abs(white - black) > 127).all(axis=2)
        touched = (white != black).any(axis=2)
        inner.append((black[~touched], recorded[~touched]))
        outer.append(recorded[border])
    if not sum(map(len, outer)):
        return inlet
    if inlet.values.per_image == "none":
        inner, outer = [tuple(np.concatenate(each) for each in zip(*inner))], [np.concatenate(outer)]
    colours = []
    for seen, around in zip(inner, outer):
        if len(seen[0]) and len(around):
            line = fit_line(*seen)
            colours.append((around - line.offset) / line.slope)
    numbers = np.median(np.concatenate(colours), axis=0) if colours else np.zeros(trials.material.channels)
    return _with_pad_colour(inlet, _colour_text(numbers, inlet))


def _with_pad_colour(inlet: Inlet, colour: str) -> Inlet:
    return replace(inlet, frame=tuple(coloured(step, colour) if has_colour(step) else step for step in inlet.frame))


def coloured(step: Pad | Crop, colour: str) -> Step:
    """A step with another colour for what lies outside the picture."""
    return replace(step, colour=colour) if isinstance(step, Pad) else replace(step, missing=colour)


def _colour_text(numbers: np.ndarray, inlet: Inlet) -> str:
    """Pixels' numbers in the inlet's order of channels as "#rrggbb"."""
    colour = np.rint(numbers).clip(0, 255).astype(int)
    colour = colour[::-1] if inlet.decode.colour == "bgr" else colour
    return "#" + "".join(f"{each:02x}" for each in (colour if len(colour) == 3 else colour.repeat(3)))


def solve_ground(trials: Trials, inlet: Inlet, images: list[int]) -> list[str]:
    """The colours that see-through images may have been laid over, solved: one in colour, some that give the same
    grey."""
    dropped, black = (replace(inlet, decode=replace(inlet.decode, transparency=t)) for t in ("#ffffff", "#000000"))
    white_minus_black, residuals = [], []
    for index in images:
        try:
            on_white, on_black = (trials.pixels(index, each).astype(np.float64) for each in (dropped, black))
        except (ImageError, ValueError):
            continue
        if on_white.shape != trials.recorded(index).shape:
            return []
        part = (on_white - on_black) / 255
        numbers = _as_pixels(trials.recorded(index), inlet, on_black, part)
        white_minus_black.append(part.reshape(-1, part.shape[2]))
        residuals.append((numbers - on_black).reshape(-1, part.shape[2]))
    if not residuals:
        return []
    part, rest = np.concatenate(white_minus_black), np.concatenate(residuals)
    if not (part**2).sum():
        return []
    solved = (part * rest).sum(axis=0) / np.maximum((part**2).sum(axis=0), 1e-9)
    if inlet.decode.colour != "grey":
        return [_colour_text(solved, inlet)]
    # Many colours have one grey; those next to it make every shade of it.
    near = int(np.clip(np.floor(solved[0]), 0, 254))
    return [f"#{near + r:02x}{near + g:02x}{near + b:02x}" for r, g, b in product((0, 1), repeat=3)]


def _as_pixels(recorded: np.ndarray, inlet: Inlet, on_black: np.ndarray, part: np.ndarray) -> np.ndarray:
    """Recorded numbers [H, W, C] back to pixels, by the inlet's values stage or, where each image has its own, by a
    fit.

    on_black: the pixels laid over black. part: what of the ground shows, of which the colour is fitted with the rest.
    """
    low, high = inlet.values.range
    if inlet.values.per_image == "none":
        numbers = recorded * np.array(inlet.values.std or (1.0,)) + np.array(inlet.values.mean or (0.0,))
        return (numbers - low) / (high - low) * 255
    pixels = np.empty_like(on_black)
    for channel in range(on_black.shape[2]):
        basis = np.stack(
            [on_black[:, :, channel].ravel(), part[:, :, channel].ravel(), np.ones(part[:, :, 0].size)], axis=1
        )
        slope, _, offset = np.linalg.lstsq(basis, recorded[:, :, channel].ravel().astype(np.float64), rcond=1e-9)[0]
        pixels[:, :, channel] = (recorded[:, :, channel] - offset) / (slope or 1.0)
    return pixels
