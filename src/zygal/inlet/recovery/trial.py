"""Trying an inlet in full: run exactly, its values stage solved, and what is then left in grey levels."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from functools import lru_cache
from itertools import product

import numpy as np

from zygal.errors import ImageError
from zygal.inlet.apply import in_order
from zygal.inlet.frame import as_array, run_step
from zygal.inlet.recovery.fit import Line, fit_line, values_of
from zygal.inlet.recovery.material import Material
from zygal.inlet.specification import Decode, Inlet, Pad, Step, Tensor, Values
from zygal.inlet.values import to_tensor
from zygal.pool import ThreadPool

HOPELESS = 1e9
_KEPT_VALUES = 60_000_000
"""Frames' results are kept as long as they hold fewer numbers in all."""


@dataclass(frozen=True)
class Outcome:
    """What an inlet leaves over some images, in grey levels: mean and largest difference."""

    inlet: Inlet
    mean: float
    largest: float

    @property
    def order(self) -> tuple[float, float]:
        # Differences below a thousandth of a grey level are float32's own.
        return (round(self.mean, 3), round(self.largest, 2))


class Trials:
    """Runs inlets on images of a Material; what was tried once is remembered."""

    def __init__(self, material: Material):
        self.material = material
        self.count = 0
        self._known: dict[tuple, Outcome] = {}
        self._framed = lru_cache(maxsize=max(16, _KEPT_VALUES // material.recorded[0].size))(self._frame)

    def attempt(self, inlet: Inlet, images: list[int]) -> Outcome:
        """The inlet with its values solved from these images (its own values count only as to what is done per image)."""
        key = (inlet.decode, inlet.frame, inlet.values.per_image, tuple(images))
        if key not in self._known:
            self.count += 1
            self._known[key] = self._attempt(inlet, images)
        return self._known[key]

    def _attempt(self, inlet: Inlet, images: list[int]) -> Outcome:
        pixels = []
        try:
            for index in images:
                pixels.append(self.pixels(index, inlet))
        except ImageError:
            return Outcome(inlet, HOPELESS, HOPELESS)
        wanted = (*self.material.size, self.material.channels)
        if any(each.shape != wanted for each in pixels):
            return Outcome(inlet, HOPELESS, HOPELESS)
        return self.solved(inlet, pixels, [self.material.recorded[index] for index in images])

    def pixels(self, index: int, inlet: Inlet) -> np.ndarray:
        """[H, W, C] after the frame stage. Raises ImageError."""
        # The order of the channels is all that tells bgr from rgb, and it comes last.
        decode = replace(inlet.decode, colour="rgb") if inlet.decode.colour == "bgr" else inlet.decode
        return in_order(self._framed(index, decode, inlet.frame), inlet)

    def _frame(self, index: int, decode: Decode, frame: tuple[Step, ...]) -> np.ndarray:
        picture = self.material.picture(index, decode)
        for step in frame:
            picture = run_step(picture, step, decode, self.material.paths[index])
        return as_array(picture)

    def all(self, inlets: Iterable[Inlet], images: list[int]) -> list[Outcome]:
        """Every inlet tried, as many side by side as there are cores."""
        return list(ThreadPool().map(lambda inlet: self.attempt(inlet, images), dict.fromkeys(inlets)))

    def solved(self, inlet: Inlet, pixels: list[np.ndarray], recorded: list[np.ndarray]) -> Outcome:
        values = inlet.values
        if self.material.tensor.dtype == "uint8":
            residuals = [np.abs(np.rint(ours).clip(0, 255) - target) for ours, target in zip(pixels, recorded)]
            values = Values((0.0, 255.0))
        elif values.per_image != "none":
            residuals = [_left_by_image(ours, target, values) for ours, target in zip(pixels, recorded)]
        else:
            line = fit_line(
                *(np.concatenate([each.reshape(-1, each.shape[2]) for each in all]) for all in (pixels, recorded))
            )
            values = self.values_from(line, inlet)
            return Outcome(replace(inlet, values=values), line.mean, line.largest)
        mean, largest = float(np.mean([each.mean() for each in residuals])), float(max(each.max() for each in residuals))
        return Outcome(replace(inlet, values=values), mean, largest)

    @staticmethod
    def values_from(line: Line, inlet: Inlet) -> Values:
        return values_of(line) if np.isfinite(line.slope).all() and (line.slope != 0).all() else inlet.values


def _left_by_image(pixels: np.ndarray, recorded: np.ndarray, values: Values) -> np.ndarray:
    tensor, level = to_tensor(pixels, values, Tensor("NHWC"))
    return np.abs(tensor.astype(np.float64) - recorded) / np.abs(level)


def solve_pad_colour(trials: Trials, inlet: Inlet, images: list[int]) -> Inlet:
    """The inlet with the colour of its padding solved from what lies around the pictures."""
    positions = [position for position, step in enumerate(inlet.frame) if isinstance(step, Pad)]
    if not positions:
        return inlet
    filled = [_with_pad_colour(inlet, colour) for colour in ("#000000", "#ffffff")]
    inner, outer = [], []
    for index in images:
        try:
            black, white = (trials.pixels(index, each).astype(np.float64) for each in filled)
        except ImageError:
            return inlet
        recorded = trials.material.recorded[index].astype(np.float64)
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
    return replace(inlet, frame=tuple(replace(s, colour=colour) if isinstance(s, Pad) else s for s in inlet.frame))


def _colour_text(numbers: np.ndarray, inlet: Inlet) -> str:
    """Pixels' numbers in the inlet's order of channels as "#rrggbb"."""
    colour = np.rint(numbers).clip(0, 255).astype(int)
    colour = colour[::-1] if inlet.decode.colour == "bgr" else colour
    return "#" + "".join(f"{each:02x}" for each in (colour if len(colour) == 3 else colour.repeat(3)))


def solve_ground(trials: Trials, inlet: Inlet, images: list[int]) -> list[str]:
    """The colours that see-through images may have been laid over, solved: one in colour, some that give the same grey."""
    dropped, black = (replace(inlet, decode=replace(inlet.decode, transparency=t)) for t in ("#ffffff", "#000000"))
    white_minus_black, residuals = [], []
    for index in images:
        try:
            on_white, on_black = (trials.pixels(index, each).astype(np.float64) for each in (dropped, black))
        except ImageError:
            continue
        if on_white.shape != trials.material.recorded[index].shape:
            return []
        part = (on_white - on_black) / 255
        numbers = _as_pixels(trials.material.recorded[index], inlet, on_black, part)
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
    """Recorded numbers [H, W, C] back to pixels, by the inlet's values stage or, where each image has its own, by a fit.

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
