"""Why the tensors differ: single edits of the inlet, tried one after the other.

What people get wrong is one detail, so an inlet that differs from ours in one field and makes the
recorded tensors is the cause, with proof. Scale and offset of the values are not searched but
solved: the recorded numbers are regressed on our pixels, channel by channel.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from zygal.errors import ImageError
from zygal.evidence.compare import tensor_differences
from zygal.evidence.witness import Witness
from zygal.inlet import Crop, Inlet, Resize, Values, apply_inlet
from zygal.inlet import specification as spec

SAMPLE = 6
LARGEST_MARGIN = 1.35
_RANGES = ((0.0, 1.0), (0.0, 255.0), (-1.0, 1.0))
_GROUNDS = ("drop", "#ffffff", "#000000")


@dataclass(frozen=True)
class Cause:
    """`finding` completes the sentence "The tensors are the recorded ones if ..."; `inlet` is the corrected one.

    Residuals are the largest differences in grey levels, over all images that were compared.
    """

    finding: str
    inlet: Inlet
    residual_before: float | None
    residual_after: float


def find_cause(
    witness: Witness, inlet: Inlet, folder: str | Path, differences: dict[int, float | None], limit: float
) -> Cause | None:
    """The first single edit of the inlet that brings every tensor within `limit` grey levels, or None."""
    by_badness = sorted(differences, key=lambda i: np.inf if differences[i] is None else differences[i], reverse=True)
    sample = by_badness[:SAMPLE]
    known = [value for value in differences.values() if value is not None]
    before = max(known) if known and len(known) == len(differences) else None
    for finding, candidate in _candidates(witness, inlet, folder, sample):
        if _residual(witness, candidate, folder, sample, limit) <= limit:
            after = _residual(witness, candidate, folder, by_badness, limit)
            if after <= limit:
                return Cause(finding, candidate, before, after)
    return None


def _residual(witness: Witness, inlet: Inlet, folder: str | Path, indices: list[int], limit: float) -> float:
    """The largest difference over some images; given up as soon as it is above the limit."""
    worst = 0.0
    for index in indices:
        try:
            made = apply_inlet(Path(folder) / witness.images[index].name, inlet)
        except ImageError:
            return np.inf
        tensor, recorded = made.tensor, witness.tensors[index]
        if tensor.shape != recorded.shape or tensor.dtype != recorded.dtype:
            return np.inf
        worst = max(worst, float(tensor_differences(made, recorded, inlet.tensor.layout).max()))
        if not worst <= limit:
            return np.inf
    return worst


def _candidates(witness: Witness, inlet: Inlet, folder: str | Path, sample: list[int]) -> Iterator[tuple[str, Inlet]]:
    yield from _decode_edits(inlet)
    yield from _value_edits(inlet)
    yield from _solved_values(witness, inlet, folder, sample)
    for layout in spec.LAYOUTS:
        if layout != inlet.tensor.layout:
            tensor = replace(inlet.tensor, layout=layout)
            yield _said("tensor.layout", layout, inlet.tensor.layout), replace(inlet, tensor=tensor)
    yield from _frame_edits(inlet)


def _decode_edits(inlet: Inlet) -> Iterator[tuple[str, Inlet]]:
    choices = {"colour": spec.COLOURS, "exif": spec.EXIF, "transparency": _GROUNDS}
    for field, values in choices.items():
        now = getattr(inlet.decode, field)
        for value in values:
            edited = replace(inlet, decode=replace(inlet.decode, **{field: value}))
            if value != now and edited.channels == inlet.channels:
                yield _said(f"decode.{field}", value, now), edited


def _value_edits(inlet: Inlet) -> Iterator[tuple[str, Inlet]]:
    for range_ in _RANGES:
        if range_ != inlet.values.range:
            edited = replace(inlet, values=replace(inlet.values, range=range_))
            yield _said("values.range", list(range_), list(inlet.values.range)), edited
    if inlet.values.mean or inlet.values.std:
        yield "values has neither mean nor std", replace(inlet, values=Values(inlet.values.range))


def _solved_values(
    witness: Witness, inlet: Inlet, folder: str | Path, sample: list[int]
) -> Iterator[tuple[str, Inlet]]:
    """Mean and std by least squares: recorded = slope * pixel + offset in each channel."""
    if inlet.tensor.dtype != "float32" or inlet.fixed_size() is None:
        return
    pixels, numbers = [], []
    for index in sample:
        try:
            ours = apply_inlet(Path(folder) / witness.images[index].name, inlet)
        except ImageError:
            continue
        if ours.tensor.shape != witness.tensors[index].shape:
            return
        recorded = witness.tensors[index]
        pixels.append(ours.pixels)
        numbers.append(recorded.transpose(1, 2, 0) if inlet.tensor.layout == "NCHW" else recorded)
    if not pixels:
        return
    lines = [
        np.polyfit(_column(pixels, channel), _column(numbers, channel), 1)
        for channel in range(inlet.channels)
        if np.ptp(_column(pixels, channel))
    ]
    if len(lines) != inlet.channels or any(slope == 0 for slope, _ in lines):
        return
    low, high = inlet.values.range
    std = tuple(float(f"{(high - low) / 255 / slope:.6g}") for slope, _ in lines)
    mean = tuple(float(f"{low - offset * s:.6g}") for (_, offset), s in zip(lines, std))
    said = f"values has mean = {list(mean)} and std = {list(std)} (solved from the recorded numbers)"
    yield said, replace(inlet, values=Values(inlet.values.range, mean, std))


def _column(arrays: list[np.ndarray], channel: int) -> np.ndarray:
    return np.concatenate([array[:, :, channel].ravel() for array in arrays]).astype(np.float64)


def _frame_edits(inlet: Inlet) -> Iterator[tuple[str, Inlet]]:
    for place, step in enumerate(inlet.frame):
        field, choices = ("centring", spec.CENTRINGS) if isinstance(step, Crop) else ("filter", spec.FILTERS)
        for value in choices:
            if value != getattr(step, field):
                name = f"frame step {place + 1}: {field}"
                yield (
                    _said(name, value, getattr(step, field)),
                    _with_step(inlet, place, replace(step, **{field: value})),
                )
        if isinstance(step, Resize) and step.short_side:
            other = next(each for each in spec.LONG_SIDES if each != step.long_side)
            name = f"frame step {place + 1}: long_side"
            yield _said(name, other, step.long_side), _with_step(inlet, place, replace(step, long_side=other))
    size = inlet.fixed_size()
    resizes = [step for step in inlet.frame if isinstance(step, Resize)]
    if size is None or len(resizes) != 1:
        return
    now = resizes[0]
    if now.size is None:
        squashed = replace(inlet, frame=(Resize(size=size, filter=now.filter),))
        yield f"the whole picture is resized to {size[0]} x {size[1]} instead of cropped", squashed
    for short in range(max(size), int(max(size) * LARGEST_MARGIN) + 1):
        if short != now.short_side:
            cropped = replace(inlet, frame=(Resize(short, None, now.filter, now.long_side), Crop(size)))
            said = f"the short side is resized to {short} and the middle {size[0]} x {size[1]} is cropped"
            yield f"{said} instead of {_frame_said(inlet)}", cropped


def _with_step(inlet: Inlet, place: int, step: Resize | Crop) -> Inlet:
    return replace(inlet, frame=(*inlet.frame[:place], step, *inlet.frame[place + 1 :]))


def _frame_said(inlet: Inlet) -> str:
    resize = next(step for step in inlet.frame if isinstance(step, Resize))
    return f"short_side = {resize.short_side}" if resize.short_side else "squashing the whole picture"


def _said(field: str, right: object, now: object) -> str:
    quoted = [f'"{value}"' if isinstance(value, str) else str(value) for value in (right, now)]
    return f"{field} is {quoted[0]} instead of {quoted[1]}"
