"""Applies an inlet to image files: one, or many side by side."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from PIL import Image

from zygal.errors import ImageError
from zygal.inlet.decode import Picture, converted, decode_image, decoded, open_image, unreduced_size
from zygal.inlet.frame import as_array, run_frame
from zygal.inlet.specification import Decode, Inlet, Resize, Step
from zygal.inlet.values import to_tensor
from zygal.machine.pool import Pool, ThreadPool

_FILES_PER_TASK = 4
"""Small files take less time than handing one over to a worker."""


@dataclass(frozen=True)
class InletTensor:
    """What the inlet makes of one image.

    pixels: [height, width, channels] of 0 to 255 after the frame stage, uint8 if they were rounded, else float32.
    tensor: what the model is fed, [C, H, W] or [H, W, C]. grey_level: what one grey level is in it, [channels].
    """

    pixels: np.ndarray
    tensor: np.ndarray
    grey_level: np.ndarray


def apply_inlet(path: str | Path, inlet: Inlet, data: bytes | None = None) -> InletTensor:
    """One image file through all stages. data: its bytes, if they were read already. Raises ImageError."""
    return apply_to_opened(open_image(path, inlet.decode, data), inlet, path)


def apply_to_opened(file: Image.Image, inlet: Inlet, path: str | Path) -> InletTensor:
    """An opened image through all stages; `path` names it in messages. Raises ImageError."""
    *_, (_, picture) = pictures(file, inlet, path)
    pixels = in_order(as_array(picture), inlet)
    return InletTensor(pixels, *to_tensor(pixels, inlet.values, inlet.tensor))


def raw_pixels(path: str | Path, decode: Decode, data: bytes | None = None) -> np.ndarray:
    """8-bit RGB [H, W, 3]: what an artifact is fed that holds the rest of the inlet. data: as above. Raises
    ImageError."""
    kept = {name: getattr(decode, name) for name in ("exif", "transparency", "sixteen_bit", "jpeg", "jpeg_reduction")}
    return np.ascontiguousarray(decode_image(path, Decode(**kept), data))


def pictures(file: Image.Image, inlet: Inlet, path: str | Path) -> Iterator[tuple[Step | str, Picture]]:
    """What an opened file is after each step: "decode", the steps of the frame, and "convert" where that comes after a
    resize.

    Raises ImageError.
    """
    decode = inlet.decode
    picture = decoded(file, decode, path)
    yield "decode", picture
    last_resize = max((place for place, step in enumerate(inlet.frame, 1) if isinstance(step, Resize)), default=0)
    if decode.conversion == "first":
        last_resize = 0
    unreduced = unreduced_size(file, decode)
    head, tail = inlet.frame[:last_resize], inlet.frame[last_resize:]
    for step, made in zip(head, run_frame(picture, head, decode, path, unreduced)):
        yield step, made
        picture = made
    if decode.conversion != "first":
        picture = converted(picture, decode, path)
        yield "convert", picture
    for step, made in zip(tail, run_frame(picture, tail, decode, path, None if head else unreduced)):
        yield step, made


def in_order(pixels: np.ndarray, inlet: Inlet) -> np.ndarray:
    """RGB or grey pixels [H, W, 3 or 1] with the channels that the inlet asks for."""
    if inlet.decode.colour == "bgr":
        return pixels[:, :, ::-1]
    return pixels.repeat(3, axis=2) if inlet.decode.colour == "grey" and inlet.channels == 3 else pixels


@dataclass(frozen=True)
class ApplyInlet:
    """Work for a pool: the tensors of some files. pixels_only: 8-bit RGB, for an artifact that holds the rest of the
    inlet."""

    inlet: Inlet
    pixels_only: bool = False

    def __call__(self, paths: Sequence[str | Path]) -> list[InletTensor | ImageError]:
        """The tensors of image files, or for each what keeps it from being read."""
        return [self._attempt(path) for path in paths]

    def read(self, path: str | Path, data: bytes | None = None) -> InletTensor:
        """One file. data: its bytes, if they were read already. Raises ImageError."""
        if not self.pixels_only:
            return apply_inlet(path, self.inlet, data)
        pixels = raw_pixels(path, self.inlet.decode, data)
        return InletTensor(pixels, pixels, np.ones(3))

    def _attempt(self, path: str | Path) -> InletTensor | ImageError:
        try:
            return self.read(path)
        except ImageError as fault:
            return fault


def apply_to_all(
    paths: Sequence[str | Path], inlet: Inlet, pool: Pool | None = None, pixels_only: bool = False
) -> Iterator[InletTensor | ImageError]:
    """The tensor of each file, in their order; a file that cannot be read gives its ImageError. pool: one thread per
    core unless given. pixels_only: see `ApplyInlet`."""
    parts = [paths[start : start + _FILES_PER_TASK] for start in range(0, len(paths), _FILES_PER_TASK)]
    for tensors in (pool or ThreadPool(1 if len(paths) == 1 else None)).map(ApplyInlet(inlet, pixels_only), parts):
        yield from tensors
