"""What a recovery works with: the images, their recorded tensors, and a choice of the telling ones."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
from PIL import Image

from zygal.errors import ImageError, InletError
from zygal.inlet.decode import (
    USUAL,
    Picture,
    decoded,
    decoding_of_jpeg,
    has_sixteen_bits,
    has_transparency,
    open_image,
    unreduced_size,
)
from zygal.inlet.frame import as_array, as_image
from zygal.inlet.specification import Decode, Tensor

FEWEST_TO_HOLD = 4
_KEPT_PIXELS = 200_000_000
"""Decoded pictures are kept as long as they have fewer pixels in all."""


@dataclass
class Material:
    """Images and what they became. paths: N files. recorded: [N, H, W, C], whatever the tensors' layout was.

    Kinds of images, by number: plain (upright, opaque, 8 bits), turned (with an EXIF orientation), see_through, deep
    (16 bits). kinds: of each file its format and its mode, as Pillow names them. held: images that are held back: no
    search looks at them.
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
    kinds: dict[int, tuple[str, str]] = field(default_factory=dict)
    held: tuple[int, ...] = ()
    _files: dict[tuple, Image.Image] = field(default_factory=dict)
    _decoded: dict[tuple, Picture] = field(default_factory=dict)
    started: float = field(default_factory=time.monotonic)
    _is: dict[int, frozenset[str]] = field(default_factory=dict)
    _kept_pixels: int = 0

    @property
    def size(self) -> tuple[int, int]:
        """Height and width of the recorded tensors."""
        return self.recorded.shape[1:3]

    @property
    def channels(self) -> int:
        """Channels of the recorded tensors."""
        return self.recorded.shape[3]

    def hopeless_after(self, seconds: float) -> bool:
        """Whether so much time has gone by that what has not explained the images by now is not worth being tried on.

        Only searches that have found nothing so far ask, so an inlet that is found does not depend on the machine's
        speed, unless it is a very slow one.
        """
        return time.monotonic() - self.started > seconds

    @property
    def readable(self) -> list[int]:
        """Those that can be read and are not held back."""
        return [index for index in range(len(self.paths)) if index not in self.unreadable and index not in self.held]

    def hold(self, held: Sequence[int]) -> None:
        """Holds these images back, and no others any more."""
        found = self.readable + list(self.held)
        self.held = tuple(held)
        self.plain, self.turned, self.see_through, self.deep = (
            [index for index in sorted(found) if kind in self._is[index] and index not in held]
            for kind in ("plain", "turned", "see_through", "deep")
        )

    def file(self, index: int, decode: Decode = USUAL) -> Image.Image:
        """The file, opened as the decode stage asks for; kept while memory allows. Raises ImageError."""
        way = decoding_of_jpeg(decode) if self.is_jpeg(index) else decoding_of_jpeg(USUAL)
        return self._kept(self._files, (index, way), lambda: open_image(self.paths[index], decode))

    def is_jpeg(self, index: int) -> bool:
        """Whether an image file is a JPEG file."""
        return self.kinds.get(index, ("", ""))[0] == "JPEG"

    def is_odd(self, index: int) -> bool:
        """Whether the file does not hold 8-bit RGB or grey, so that converting it after a resize makes another
        picture."""
        return self.kinds.get(index, ("", "RGB"))[1] not in ("RGB", "L")

    def picture(self, index: int, decode: Decode) -> Picture:
        """The decode stage of an image. Raises ImageError."""
        return self._kept(
            self._decoded, (index, decode), lambda: decoded(self.file(index, decode), decode, self.paths[index])
        )

    def array(self, index: int, decode: Decode) -> np.ndarray:
        """The same as [H, W, C]. Raises ImageError."""
        return self._kept(self._decoded, (index, decode, "array"), lambda: as_array(self.picture(index, decode)))

    def unreduced(self, index: int, decode: Decode) -> tuple[int, int] | None:
        """The size before the decoder reduced it; None if it does not."""
        return unreduced_size(self.file(index, decode), decode) if decode.jpeg_reduction else None

    def reduced(self, index: int, decode: Decode, by: tuple[int, int]) -> Picture:
        """The decoded picture reduced to means of `by` (rows, columns) pixels."""
        return self._kept(
            self._decoded, (index, decode, by), lambda: as_image(self.picture(index, decode)).reduce(by[::-1])
        )

    def _kept(self, among: dict, key: tuple, make: Callable[[], Picture]) -> Picture:
        if key in among:
            return among[key]
        made = make()
        height, width = made.shape[:2] if isinstance(made, np.ndarray) else made.size
        # A file that needs no conversion is its own picture.
        more = 0 if any(made is each for each in self._files.values()) else height * width
        if self._kept_pixels + more <= _KEPT_PIXELS:
            self._kept_pixels += more
            among[key] = made
        return made


def gather(paths: Sequence[str | Path], tensors: np.ndarray) -> Material:
    """Raises InletError if the tensors are no images or no image can be read."""
    material = Material([Path(path) for path in paths], *_channels_last(tensors))
    for index in range(len(material.paths)):
        try:
            opened = material.file(index)
        except ImageError as fault:
            material.unreadable[index] = str(fault)
            continue
        material.sizes[index] = (opened.height, opened.width)
        material.kinds[index] = (opened.format or "", opened.mode)
        kinds = {
            "turned": opened.getexif().get(0x0112, 1) not in (0, 1),
            "see_through": has_transparency(opened),
            "deep": has_sixteen_bits(opened),
        }
        material._is[index] = frozenset(kind for kind, is_so in kinds.items() if is_so) or frozenset(("plain",))
    if not material.readable:
        raise InletError(f"none of the {len(material.paths)} images can be read; the first: {material.unreadable[0]}")
    material.hold(())
    return material


def held_back(material: Material) -> list[int]:
    """A quarter of the images or a little more, so that what is found on the others can be proved on them: of each kind
    of file (format, colours, orientation, transparency, depth) that occurs twice some are held back and some are not.
    None of fewer than four images."""
    kinds: dict[tuple, list[int]] = {}
    # From the tallest to the widest, so that what is taken at even places is of all proportions.
    for index in sorted(material.readable, key=lambda each: (material.sizes[each][0] / material.sizes[each][1], each)):
        kinds.setdefault((material.kinds[index], material._is[index]), []).append(index)
    wanted = -(-len(material.readable) // 4)
    if len(material.readable) < FEWEST_TO_HOLD:
        return []
    shares = {kind: len(each) // 4 or (len(each) > 1) for kind, each in kinds.items()}
    while sum(shares.values()) < wanted:
        kind = max(kinds, key=lambda each: len(kinds[each]) - 1 - 4 * shares[each])
        if shares[kind] >= len(kinds[kind]) - 1:
            break
        shares[kind] += 1
    return sorted(
        each[(2 * place + 1) * len(each) // (2 * count)]
        for kind, each in kinds.items()
        if (count := shares[kind])
        for place in range(count)
    )


def _channels_last(tensors: np.ndarray) -> tuple[np.ndarray, Tensor]:
    if tensors.ndim == 4 and tensors.shape[1] in (1, 3):
        return tensors.transpose(0, 2, 3, 1), Tensor("NCHW", tensors.dtype.name)
    if tensors.ndim == 4 and tensors.shape[3] in (1, 3):
        return tensors, Tensor("NHWC", tensors.dtype.name)
    raise InletError(
        f"the recorded tensors are {list(tensors.shape)}, but an inlet makes images of 1 or 3 channels, [N, C, H, W] "
        "or [N, H, W, C]."
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
    return list(dict.fromkeys([slimmest[0], slimmest[-1], *chosen, *able]))[:count]
