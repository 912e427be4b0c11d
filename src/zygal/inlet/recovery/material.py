"""What a recovery works with: the images, their recorded tensors, and a choice of the telling ones."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
from PIL import Image

from zygal.errors import ImageError, InletError
from zygal.inlet.decode import Picture, decoded, has_sixteen_bits, has_transparency, open_image
from zygal.inlet.specification import Decode, Tensor

_KEPT_PIXELS = 80_000_000
"""Decoded pictures are kept as long as they have fewer pixels in all."""


@dataclass
class Material:
    """Images and what they became. paths: N files. recorded: [N, H, W, C], whatever the tensors' layout was.

    Kinds of images, by number: plain (upright, opaque, 8 bits), turned (with an EXIF orientation), see_through, deep (16 bits).
    """

    paths: list[Path]
    recorded: np.ndarray
    tensor: Tensor
    plain: list[int] = field(default_factory=list)
    turned: list[int] = field(default_factory=list)
    see_through: list[int] = field(default_factory=list)
    deep: list[int] = field(default_factory=list)
    unreadable: dict[int, str] = field(default_factory=dict)
    sizes: dict[int, tuple[int, int]] = field(default_factory=dict)
    _files: dict[int, Image.Image] = field(default_factory=dict)
    _decoded: dict[tuple[int, Decode], Picture] = field(default_factory=dict)
    _held: int = 0

    @property
    def size(self) -> tuple[int, int]:
        return self.recorded.shape[1:3]

    @property
    def channels(self) -> int:
        return self.recorded.shape[3]

    @property
    def readable(self) -> list[int]:
        return [index for index in range(len(self.paths)) if index not in self.unreadable]

    def file(self, index: int) -> Image.Image:
        """The opened file; kept while memory allows. Raises ImageError."""
        if index not in self._files:
            opened = open_image(self.paths[index])
            if self._held + opened.width * opened.height > _KEPT_PIXELS:
                return opened
            self._held += opened.width * opened.height
            self._files[index] = opened
        return self._files[index]

    def picture(self, index: int, decode: Decode) -> Picture:
        """The decode stage of an image. Raises ImageError."""
        key = (index, decode)
        if key not in self._decoded:
            picture = decoded(self.file(index), decode, self.paths[index])
            if self._held > _KEPT_PIXELS:
                return picture
            height, width = picture.shape[:2] if isinstance(picture, np.ndarray) else picture.size
            self._held += height * width
            self._decoded[key] = picture
        return self._decoded[key]


def gather(paths: Sequence[str | Path], tensors: np.ndarray) -> Material:
    """Raises InletError if the tensors are no images or no image can be read."""
    material = Material([Path(path) for path in paths], *_channels_last(tensors))
    for index, path in enumerate(material.paths):
        try:
            opened = material.file(index)
        except ImageError as fault:
            material.unreadable[index] = str(fault)
            continue
        material.sizes[index] = (opened.height, opened.width)
        kinds = [
            (opened.getexif().get(0x0112, 1) not in (0, 1), material.turned),
            (has_transparency(opened), material.see_through),
            (has_sixteen_bits(opened), material.deep),
        ]
        for is_so, group in kinds:
            if is_so:
                group.append(index)
        if not any(is_so for is_so, _ in kinds):
            material.plain.append(index)
    if not material.readable:
        raise InletError(f"none of the {len(material.paths)} images can be read; the first: {material.unreadable[0]}")
    return material


def _channels_last(tensors: np.ndarray) -> tuple[np.ndarray, Tensor]:
    if tensors.ndim == 4 and tensors.shape[1] in (1, 3):
        return tensors.transpose(0, 2, 3, 1), Tensor("NCHW", tensors.dtype.name)
    if tensors.ndim == 4 and tensors.shape[3] in (1, 3):
        return tensors, Tensor("NHWC", tensors.dtype.name)
    raise InletError(
        f"the recorded tensors are {list(tensors.shape)}, but an inlet makes images of 1 or 3 channels, [N, C, H, W] or "
        "[N, H, W, C]."
    )


def telling(material: Material, among: list[int], count: int) -> list[int]:
    """Images that tell most: of different proportions, with contrast, and small, so that trying is quick."""
    contrast = {index: float(material.recorded[index].std(axis=(0, 1)).max()) for index in among}
    enough = 0.3 * float(np.median(list(contrast.values())))
    able = [index for index in among if contrast[index] > 0 and contrast[index] >= enough] or list(among)
    able.sort(key=lambda index: material.sizes[index][0] * material.sizes[index][1])
    chosen: list[int] = []
    for index in able:
        if len(chosen) < count and material.sizes[index] not in [material.sizes[each] for each in chosen]:
            chosen.append(index)
    # The widest and the tallest tell crop from squash, so they come first.
    slimmest = sorted(able, key=lambda index: material.sizes[index][0] / material.sizes[index][1])
    chosen = list(dict.fromkeys([slimmest[0], slimmest[-1], *chosen, *able]))[:count]
    return chosen
