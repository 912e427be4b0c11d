"""The single edits of an inlet: every other inlet that differs from it in one choice."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import fields, replace
from functools import lru_cache

from zygal.errors import InletError
from zygal.inlet import specification as spec
from zygal.inlet.resampling import uses_pillow
from zygal.inlet.specification import (
    GREY_WEIGHTS,
    Blur,
    Crop,
    Decode,
    Inlet,
    Pad,
    Resize,
    Step,
    fixed_point_fits,
    idle_fields,
)

GREY_FORMULAS = (
    GREY_WEIGHTS,
    (0.2989, 0.587, 0.114),
    (0.2126, 0.7152, 0.0722),
    (1 / 3, 1 / 3, 1 / 3),
    (0.2989, 0.587, 0.1141),
)
"""BT.601, the same with four digits, BT.709, the mean of the channels, and the second made to sum to 1."""
_REDUCED_TO = (224, 256, 320, 384, 448, 512)
"""Sizes that decoders are told to keep."""
GROUNDS = ("drop", "#ffffff", "#000000")

_DECODE = {
    "colour": spec.COLOURS,
    "exif": spec.EXIF,
    "transparency": GROUNDS,
    "grey_weights": GREY_FORMULAS,
    "grey_rounding": spec.GREY_ROUNDINGS,
    "sixteen_bit": spec.SIXTEEN_BIT[1:],
    "polarity": spec.POLARITIES,
    "mirror": spec.MIRRORS,
    "jpeg": spec.JPEG,
    "jpeg_grey": spec.JPEG_GREY,
    "conversion": spec.CONVERSIONS,
}
_RESIZE = {
    "filter": spec.FILTERS,
    "grid": spec.GRIDS,
    "antialias": (True, False),
    "edges": spec.EDGES,
    "cubic": spec.CUBICS,
    "rounding": spec.ROUNDINGS,
    "scale": spec.SCALES,
    "order": spec.ORDERS,
    "long_side": spec.LONG_SIDES[:3],
    "grid_scale": spec.GRID_SCALES,
    "box": spec.BOXES[:3],
    "prefilter": spec.PREFILTERS,
    "enlarge": (True, False),
}
_CROP = {"centring": spec.CROP_CENTRINGS, "fraction_rounding": spec.FRACTION_ROUNDINGS}
_PAD = {"centring": spec.CENTRINGS, "border": spec.BORDERS}
_CHOICES = {Resize: _RESIZE, Crop: _CROP, Pad: _PAD, Blur: {"kind": spec.BLURS, "rounding": spec.BLUR_ROUNDINGS}}


def single_edits(inlet: Inlet) -> Iterator[tuple[str, Inlet]]:
    """Pairs of a field's name and an inlet that has another value there; the channels stay as many as they are."""
    for name, value in _other_choices(inlet.decode, _DECODE):
        if name in ("grey_weights", "grey_rounding", "jpeg_grey") and inlet.decode.colour != "grey":
            continue
        decode = effective_decode(replace(inlet.decode, **{name: value}), inlet.channels)
        edited = replace(inlet, decode=decode)
        if edited.channels == inlet.channels and edited != inlet and fits_together(edited):
            yield f"decode.{name}", edited
    if inlet.decode.jpeg_reduction is not None:
        for least in (None, *((side, side) for side in _REDUCED_TO)):
            if least != inlet.decode.jpeg_reduction:
                yield "decode.jpeg_reduction", replace(inlet, decode=replace(inlet.decode, jpeg_reduction=least))
    for index, step in enumerate(inlet.frame):
        for name, edited in step_edits(step):
            whole = with_step(inlet, index, edited)
            if fits_together(whole):
                yield f"frame step {index + 1}.{name}", whole
    for per_image in spec.PER_IMAGE:
        if per_image != inlet.values.per_image and inlet.tensor.dtype != "uint8":
            yield "values.per_image", replace(inlet, values=spec.Values(per_image=per_image))


def step_edits(step: Step) -> Iterator[tuple[str, Step]]:
    """Pairs of a field's name and a step that has another value there and does something else."""
    for name, value in _other_choices(step, _CHOICES[type(step)]):
        edited = effective(replace(step, **{name: value}))
        if edited != effective(step):
            yield name, edited


def effective(step: Step) -> Step:
    """The step with every field that has no effect as it is when left out."""
    idle = set(idle_fields(step))
    if isinstance(step, Resize):
        if step.rounding.startswith("fixed") and not fixed_point_fits(step):
            idle.add("rounding")
        if step.reduce_above and not uses_pillow(step):
            idle.add("reduce_above")
    usual = type(step)()
    return replace(step, **{name: getattr(usual, name) for name in idle})


def effective_decode(decode: Decode, channels: int) -> Decode:
    """The decode stage with its grey fields as they are when left out, unless it makes grey."""
    usual = Decode()
    if decode.colour == "grey":
        decode = replace(decode, grey_channels=channels)
        if decode.jpeg_grey == "luma" and decode.conversion == "grey-after-resize":
            decode = replace(decode, conversion=usual.conversion)
        return decode
    names = [each.name for each in fields(Decode) if each.name.startswith("grey_") or each.name == "jpeg_grey"]
    if decode.conversion == "grey-after-resize":
        names.append("conversion")
    return replace(decode, **{name: getattr(usual, name) for name in names})


@lru_cache(maxsize=65536)
def fits_together(inlet: Inlet) -> bool:
    """Whether an inlet that was put together passes the checks that its file would have to pass."""
    from zygal.inlet.toml import document_of, inlet_of

    try:
        return inlet_of(document_of(inlet), "edited") == inlet
    except InletError:
        return False


def with_step(inlet: Inlet, index: int, step: Step) -> Inlet:
    """The inlet with another step in one place of its frame."""
    return replace(inlet, frame=(*inlet.frame[:index], step, *inlet.frame[index + 1 :]))


def _other_choices(record: object, choices: dict[str, tuple]) -> Iterator[tuple[str, object]]:
    for name, values in choices.items():
        for value in values:
            if value != getattr(record, name):
                yield name, value
