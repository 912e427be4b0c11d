"""Trying an inlet: run exactly, on some rows and columns or on whole images, its values stage solved, and what is then
left in grey levels."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np

from zygal.errors import ImageError
from zygal.inlet.apply import in_order, pictures
from zygal.inlet.decode import grey_of
from zygal.inlet.frame import as_array, blurred
from zygal.inlet.recovery.fit import Line, fit_line, unexplained, values_of
from zygal.inlet.recovery.material import Material
from zygal.inlet.recovery.sampling import after_reduction, has_colour, reduction, run_sampled, seen
from zygal.inlet.sizes import place
from zygal.inlet.specification import Blur, Decode, Inlet, Step, Tensor, Values
from zygal.inlet.values import to_tensor
from zygal.machine.pool import ThreadPool

HOPELESS = 1e9
_SAMPLES = 36
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
        """What to sort by: the mean residual, then the largest."""
        # Differences below a thousandth of a grey level are float32's own.
        return (round(self.mean, 3), round(self.largest, 2))


class Trials:
    """Runs inlets on images of a Material; what was tried once is remembered.

    whole: on all of each image instead of on `samples` rows and columns, chosen at random and those at the border.
    """

    def __init__(self, material: Material, whole: bool = False, samples: int = _SAMPLES):
        self.material = material
        self.count = 0
        self._known: dict[tuple, Outcome] = {}
        generator = np.random.default_rng(0)
        self.wanted = tuple(
            np.arange(side)
            if whole or side <= samples
            else np.unique(np.r_[0, 1, side - 2, side - 1, generator.choice(side, samples - 4, replace=False)])
            for side in material.size
        )
        self.whole = whole
        kept = len(self.wanted[0]) * len(self.wanted[1]) * material.channels
        self._framed = lru_cache(maxsize=max(16, _KEPT_VALUES // kept))(self._frame)
        self._recorded = lru_cache(maxsize=None)(self._take)
        self._blurred = lru_cache(maxsize=24)(self._blur)

    def recorded(self, index: int) -> np.ndarray:
        """[rows, columns, C], of the rows and columns that are looked at."""
        return self._recorded(index)

    def _take(self, index: int) -> np.ndarray:
        return self.material.recorded[index][self.wanted[0]][:, self.wanted[1]]

    def attempt(self, inlet: Inlet, images: list[int]) -> Outcome:
        """The inlet with its values solved from these images (its own values count only as to what is done per
        image)."""
        key = (inlet.decode, inlet.frame, inlet.values.per_image, tuple(images))
        if key not in self._known:
            self.count += 1
            self._known[key] = self._attempt(inlet, images)
        return self._known[key]

    def _attempt(self, inlet: Inlet, images: list[int]) -> Outcome:
        try:
            pixels = [self.pixels(index, inlet) for index in images]
        except (ImageError, ValueError):
            return Outcome(inlet, HOPELESS, HOPELESS)
        wanted = (*map(len, self.wanted), self.material.channels)
        if any(each.shape != wanted for each in pixels):
            return Outcome(inlet, HOPELESS, HOPELESS)
        return self.solved(inlet, pixels, [self.recorded(index) for index in images])

    def pixels(self, index: int, inlet: Inlet) -> np.ndarray:
        """[rows, columns, C] after the frame stage. Raises ImageError, or ValueError if a step does not fit."""
        # The order of the channels is all that tells bgr from rgb, and it comes last.
        decode = replace(inlet.decode, colour="rgb") if inlet.decode.colour == "bgr" else inlet.decode
        return in_order(self._framed(index, decode, inlet.frame), inlet)

    def _frame(self, index: int, decode: Decode, frame: tuple[Step, ...]) -> np.ndarray:
        plain = not self.material.is_odd(index)
        grey_last = (
            decode.colour == "grey" and decode.conversion != "first" and (plain or decode.conversion != "after-resize")
        )
        if grey_last:
            rgb = self._frame(index, replace(decode, colour="rgb", grey_channels=1, conversion="first"), frame)
            rgb = rgb.repeat(3, axis=2) if rgb.shape[2] == 1 else rgb
            return grey_of(rgb, decode.grey_weights, decode.grey_rounding)
        if decode.conversion != "first" and plain:
            decode = replace(decode, conversion="first")
        blurs = [number for number, step in enumerate(frame) if isinstance(step, Blur)]
        if self.whole or decode.conversion == "after-resize" or any(blurs) or len(blurs) > 1:
            return self._run_whole(index, decode, frame)
        unreduced = self.material.unreduced(index, decode)
        picture = self.material.array(index, decode)
        if blurs:
            picture, frame = self._blurred(index, decode, frame[0]), frame[1:]
        placed = place(picture.shape[:2], frame, unreduced)
        if (placed[-1].after if placed else picture.shape[:2]) != self.material.size:
            raise ValueError("the frame makes another size")
        by = reduction(placed[0]) if placed else None
        if by is not None:
            picture = as_array(self.material.reduced(index, decode, by))
            placed[0] = after_reduction(placed[0], by)
        if any(reduction(each) for each in placed[1:]):
            return self._run_whole(index, decode, frame)
        return run_sampled(picture, placed, self.wanted, decode)

    def _run_whole(self, index: int, decode: Decode, frame: tuple[Step, ...]) -> np.ndarray:
        inlet, path = Inlet(decode, frame), self.material.paths[index]
        *_, (_, picture) = pictures(self.material.file(index, decode), inlet, path)
        array = as_array(picture)
        if array.shape[:2] != self.material.size:
            raise ValueError("the frame makes another size")
        return array[self.wanted[0]][:, self.wanted[1]]

    def _blur(self, index: int, decode: Decode, step: Blur) -> np.ndarray:
        return as_array(blurred(self.material.picture(index, decode), step))

    def unexplained(self, frame: tuple[Step, ...], decode: Decode, images: list[int]) -> float:
        """The mean part of the recorded variance that no mixture of the frame's channels explains; 1 if it does not
        fit."""
        left = []
        for index in images:
            try:
                pixels, recorded = self._framed(index, decode, frame), self.recorded(index)
                if any(has_colour(step) for step in frame):
                    picture = self.material.array(index, decode)
                    mask = seen(place(picture.shape[:2], frame, None), self.wanted)
                    if mask.sum() < max(24, mask.size // 12):
                        return 1.0
                    pixels, recorded = pixels[mask][None], recorded[mask][None]
            except (ImageError, ValueError):
                return 1.0
            left.append(unexplained(pixels.reshape(-1, pixels.shape[2]), recorded.reshape(-1, recorded.shape[2])))
            if left[0] > 0.9:
                return 1.0
        return float(np.mean(left))

    def all(self, inlets: Iterable[Inlet], images: list[int]) -> list[Outcome]:
        """Every inlet tried, as many side by side as there are cores."""
        return list(ThreadPool().map(lambda inlet: self.attempt(inlet, images), dict.fromkeys(inlets)))

    def solved(self, inlet: Inlet, pixels: list[np.ndarray], recorded: list[np.ndarray]) -> Outcome:
        """What is left between our pixels and the recorded tensors, with the best values stage."""
        values = inlet.values
        if self.material.tensor.dtype == "uint8":
            residuals = [np.abs(np.rint(ours).clip(0, 255) - target) for ours, target in zip(pixels, recorded)]
            values = Values((0.0, 255.0))
        elif values.per_image != "none":
            left = _left_by_formula if self.whole else _left_by_image
            residuals = [left(ours, target, values) for ours, target in zip(pixels, recorded)]
        else:
            line = fit_line(
                *(np.concatenate([each.reshape(-1, each.shape[2]) for each in all]) for all in (pixels, recorded))
            )
            values = self.values_from(line, inlet)
            return Outcome(replace(inlet, values=values), line.mean, line.largest)
        mean, largest = (
            float(np.mean([each.mean() for each in residuals])),
            float(max(each.max() for each in residuals)),
        )
        return Outcome(replace(inlet, values=values), mean, largest)

    @staticmethod
    def values_from(line: Line, inlet: Inlet) -> Values:
        """The values stage of a fitted line, or the inlet's own where there is none."""
        return values_of(line) if np.isfinite(line.slope).all() and (line.slope != 0).all() else inlet.values


def _left_by_formula(pixels: np.ndarray, recorded: np.ndarray, values: Values) -> np.ndarray:
    tensor, level = to_tensor(pixels, values, Tensor("NHWC"))
    return np.abs(tensor.astype(np.float64) - recorded) / np.abs(level)


def _left_by_image(pixels: np.ndarray, recorded: np.ndarray, values: Values) -> np.ndarray:
    """Differences where each image has values of its own: a part of the image is compared after a fit, which knows no
    more than the formula (a channel each, or all alike)."""
    if values.per_image.endswith("-channels"):
        parts = [(pixels[:, :, channel], recorded[:, :, channel]) for channel in range(pixels.shape[2])]
    else:
        parts = [(pixels, recorded)]
    left = []
    for ours, target in parts:
        x, y = ours.astype(np.float64).ravel(), target.astype(np.float64).ravel()
        if values.per_image == "by-maximum":
            slope, offset = (x @ y) / max(x @ x, 1e-9), 0.0
        else:
            centred = x - x.mean()
            slope = (centred @ y) / max(centred @ centred, 1e-9)
            offset = y.mean() - slope * x.mean()
        left.append(np.abs(y - offset - slope * x) / max(abs(slope), 1e-12))
    return np.concatenate(left)
