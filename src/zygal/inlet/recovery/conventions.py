"""The ways of resampling that libraries have, each as one resize with every key: the usual ones first."""

from __future__ import annotations

from dataclasses import replace

from zygal.inlet.specification import Resize, Step

_SHARP = {"antialias": False, "rounding": "none"}
_FLOAT32 = {**_SHARP, "scale": "float32"}
_KEYS = {"cubic": -0.75, "edges": "repeat", "filter": "bicubic"}

LIBRARIES: dict[str, tuple[Resize, ...]] = {
    "Pillow": tuple(Resize(filter=name) for name in ("bilinear", "bicubic", "lanczos", "nearest", "box", "hamming")),
    "OpenCV": (
        Resize(filter="bilinear", antialias=False, rounding="fixed"),
        Resize(filter="area", rounding="fixed"),
        Resize(**_KEYS, antialias=False, rounding="end"),
        Resize(filter="lanczos4", antialias=False, edges="repeat", rounding="fixed"),
        Resize(filter="nearest", grid="asymmetric", scale="float64"),
        Resize(filter="area-linear", rounding="fixed"),
        Resize(filter="bilinear", antialias=False, rounding="fixed-8bit"),
        Resize(**_KEYS, antialias=False, rounding="fixed"),
        Resize(filter="bilinear", **_SHARP),
        Resize(**_KEYS, **_SHARP),
        Resize(filter="area", rounding="none"),
        Resize(filter="area-linear", rounding="none"),
        Resize(filter="lanczos4", edges="repeat", **_SHARP),
    ),
    "PyTorch": (
        Resize(filter="bilinear", rounding="none"),
        Resize(filter="bilinear", **_FLOAT32),
        Resize(filter="bicubic", rounding="none"),
        Resize(**_KEYS, **_FLOAT32),
        Resize(filter="bilinear", rounding="passes-16bit"),
        Resize(filter="bicubic", rounding="passes-16bit"),
        Resize(filter="bilinear", antialias=False, rounding="end", scale="float32"),
        Resize(filter="nearest", grid="asymmetric", scale="float32"),
        Resize(filter="nearest", scale="float32"),
        Resize(filter="adaptive", rounding="none"),
        Resize(filter="bilinear", grid="corners", **_FLOAT32),
        Resize(**_KEYS, grid="corners", **_FLOAT32),
    ),
    "TensorFlow and JAX": (
        Resize(filter="bicubic", **_FLOAT32),
        Resize(filter="lanczos", **_FLOAT32),
        Resize(filter="lanczos", rounding="none"),
        Resize(filter="lanczos5", **_FLOAT32),
        Resize(filter="lanczos5", rounding="none"),
        Resize(filter="mitchell", **_FLOAT32),
        Resize(filter="mitchell", rounding="none"),
        Resize(filter="gaussian", **_FLOAT32),
        Resize(filter="gaussian", rounding="none"),
        Resize(filter="bilinear", grid="asymmetric", edges="repeat", **_FLOAT32),
        Resize(filter="nearest", grid="corners"),
        Resize(**_KEYS, grid="asymmetric", **_FLOAT32),
    ),
    "scikit-image": (
        Resize(filter="bilinear", prefilter="gaussian", edges="reflect", **_SHARP),
        Resize(filter="bilinear", edges="reflect", **_SHARP),
        Resize(filter="spline", prefilter="gaussian", edges="reflect", rounding="none"),
        Resize(filter="spline", edges="reflect", rounding="none"),
        Resize(filter="bilinear", prefilter="gaussian", edges="zero", **_SHARP),
        Resize(filter="nearest", prefilter="gaussian", edges="reflect", rounding="none"),
    ),
}
"""What differs in a few pixels only (rounding, borders, order of the passes) is left to the search's single edits."""
CONVENTIONS = tuple(dict.fromkeys(step for steps in LIBRARIES.values() for step in steps))
SHAPES = (
    Resize(filter="bilinear", rounding="none"),
    Resize(filter="bilinear", **_SHARP),
    Resize(filter="nearest"),
    Resize(filter="nearest", grid="asymmetric"),
    Resize(filter="nearest", grid="corners"),
    Resize(filter="bicubic", rounding="none"),
    Resize(filter="bilinear", prefilter="gaussian", edges="reflect", **_SHARP),
    Resize(filter="area", rounding="none"),
)
"""One of each kind, with which frames are told apart before the convention is known."""
_SIZING = (
    "short_side",
    "size",
    "within",
    "cover",
    "factor",
    "long_side",
    "box",
    "enlarge",
    "grid_scale",
    "reduce_above",
)


def in_the_way_of(step: Resize, convention: Resize) -> Resize:
    """A resize done by a convention, to the size that it had."""
    return replace(convention, **{name: getattr(step, name) for name in _SIZING})


def with_convention(frame: tuple[Step, ...], convention: Resize) -> tuple[Step, ...]:
    """The frame with all its resizes in the way of one."""
    return tuple(in_the_way_of(step, convention) if isinstance(step, Resize) else step for step in frame)


def library_of(step: Resize) -> str | None:
    """The library whose own way of resampling a resize is, or None if it is nobody's or everybody's."""
    plain = in_the_way_of(Resize(), replace(step, box="whole", grid_scale="sizes", reduce_above=None))
    plain = replace(plain, order="by-shrinkage")
    found = [name for name, steps in LIBRARIES.items() if plain in steps]
    return found[0] if len(found) == 1 else None
