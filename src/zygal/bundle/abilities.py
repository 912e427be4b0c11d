"""Which preprocessing the runners of a bundle do. What they cannot do exactly is refused, not approximated."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import fields

from zygal.inlet import Inlet
from zygal.inlet.resampling import uses_pillow
from zygal.inlet.specification import GREY_WEIGHTS, Blur, Crop, Decode, Pad, Resize

_FLOAT_FILTERS = ("bilinear", "bicubic")
_PILLOW_FILTERS = ("nearest", "box", "bilinear", "bicubic", "lanczos")


def cannot_do(inlet: Inlet, raw_pixels: bool) -> list[str]:
    """What the runners cannot do of an inlet, in words; empty if they do all of it. raw_pixels: all but the decoding is
    in the artifact."""
    found = list(_of_decode(inlet.decode))
    if raw_pixels:
        return found
    found += _of_colour(inlet.decode)
    resized_in_floats = False
    for step in inlet.frame:
        if isinstance(step, Resize):
            found += _of_resize(step, resized_in_floats)
            resized_in_floats |= not uses_pillow(step)
        elif isinstance(step, Blur):
            found.append("a blur")
        else:
            found += _of_window(step, resized_in_floats)
    if inlet.values.per_image != "none":
        found.append(f'values.per_image = "{inlet.values.per_image}"')
    return found


def _of_decode(decode: Decode) -> Iterator[str]:
    """What concerns the decoding of files."""
    plain = Decode()
    for name in ("jpeg", "jpeg_reduction"):
        if getattr(decode, name) != getattr(plain, name):
            yield f"decode.{name} = {getattr(decode, name)!r}"


def _of_colour(decode: Decode) -> Iterator[str]:
    plain = Decode()
    for each in fields(Decode):
        value = getattr(decode, each.name)
        if each.name in (
            "colour",
            "exif",
            "transparency",
            "grey_channels",
            "sixteen_bit",
            "jpeg",
            "jpeg_reduction",
        ) or value == getattr(plain, each.name):
            continue
        if each.name.startswith("grey") and decode.colour != "grey":
            continue
        yield f"decode.{each.name} = {value!r}"
    if decode.colour == "grey" and decode.grey_weights != GREY_WEIGHTS:
        yield "other weights of grey"


def _of_resize(step: Resize, in_floats: bool) -> Iterator[str]:
    if step.factor is not None:
        yield "a resize by a factor"
    for name, plain in (
        ("enlarge", True),
        ("box", "whole"),
        ("reduce_above", None),
        ("prefilter", "none"),
        ("grid", "half-pixel"),
    ):
        if getattr(step, name) != plain:
            yield f"a resize with {name} = {getattr(step, name)!r}"
    if step.size is None and step.grid_scale != "sizes":
        yield f"a resize with grid_scale = {step.grid_scale!r}"
    if step.long_side not in ("down", "nearest", "up"):
        yield f"a resize with long_side = {step.long_side!r}"
    if uses_pillow(step):
        if in_floats:
            yield "a resize of 8-bit pixels behind one in floats"
        if step.filter not in _PILLOW_FILTERS:
            yield f"a resize with the filter {step.filter}"
        return
    known = step.filter in _FLOAT_FILTERS and step.rounding in ("end", "none") and step.edges in ("inside", "repeat")
    if not known:
        yield f"a resize with the filter {step.filter}, edges {step.edges} and rounding {step.rounding}"


def _of_window(step: Crop | Pad, in_floats: bool) -> Iterator[str]:
    name = type(step).__name__.lower()
    if (
        step.margins is not None
        or getattr(step, "fraction", None) is not None
        or step.size is None
        and isinstance(step, Pad)
    ):
        yield f"a {name} other than to a size or an aspect"
    if step.centring not in ("down", "nearest", "up"):
        yield f"a {name} with centring = {step.centring!r}"
    if isinstance(step, Crop) and step.missing is not None:
        yield "a crop that fills up what is missing"
    if isinstance(step, Pad) and (step.border != "colour" or in_floats):
        yield "a pad with the picture itself, or behind a resize in floats"
