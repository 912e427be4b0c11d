"""Ways of decoding a JPEG file that are not the usual one: the fast inverse transform, the luma plane, a reduced size.

The planes are decoded by Pillow's copy of the JPEG group's library; where chroma is subsampled they are brought to full
size and to RGB here, by that library's own formulas (jdsample.c "fancy upsampling", jdcolor.c).
"""

from __future__ import annotations

import numpy as np
from PIL import Image

from zygal.inlet.specification import Decode


def decoded_otherwise(file: Image.Image, decode: Decode) -> Image.Image:
    """An opened and not yet loaded JPEG file, loaded as `decode` asks for; the picture keeps the file's notes."""
    luma = decode.jpeg_grey == "luma" and decode.colour == "grey" and file.mode in ("L", "RGB")
    full = file.size
    if decode.jpeg_reduction is not None:
        height, width = decode.jpeg_reduction
        file.draft("L" if luma else None, (width, height))
    elif luma and file.mode == "RGB":
        file.draft("L", file.size)
    if decode.jpeg == "fast":
        picture = _by_fast_transform(file)
    else:
        file.load()
        picture = file
    picture.info["unreduced"] = full
    return picture


def _by_fast_transform(file: Image.Image) -> Image.Image:
    sampling = [tuple(part[1:3]) for part in file.layer]
    subsampled = file.mode == "RGB" and len(sampling) == 3 and sampling[0] != (1, 1) and sampling[1:] == [(1, 1)] * 2
    if subsampled and _holds_luma(file):
        file.draft("YCbCr", file.size)
    # The second number is the library's "draft": the fast transform, and chroma repeated instead of interpolated.
    file.decoderconfig = (1, 1)
    file.load()
    if file.mode != "YCbCr":
        return file
    planes = np.asarray(file)
    across, down = sampling[0]
    chroma = [
        _enlarged(planes[::down, ::across, channel].astype(np.int32), down, across)[: file.height, : file.width]
        for channel in (1, 2)
    ]
    picture = Image.fromarray(_to_rgb(planes[:, :, 0].astype(np.int32), *chroma))
    picture.info = file.info
    return picture


def _holds_luma(file: Image.Image) -> bool:
    """Whether the three planes are luma and chroma, as all files are whose Adobe marker does not deny it."""
    return file.info.get("adobe_transform", 1) == 1


def _enlarged(plane: np.ndarray, down: int, across: int) -> np.ndarray:
    """Chroma at full size: three parts of the nearer pixel and one of the next, in each direction."""
    if down == 2 and across == 2 and plane.shape[1] > 2:
        rows = _pairs(plane, 0, 3)
        return _rounded_pairs(rows, 8, 7, 4, first=(4, 8, 4), last=(4, 7, 4))
    if down == 1 and across == 2 and plane.shape[1] > 2:
        return _rounded_pairs(plane, 1, 2, 2, first=(1, 0, 0), last=(1, 0, 0))
    if down == 2 and across == 1:
        rows = _pairs(plane, 0, 3)
        rows[::2] += 1
        rows[1::2] += 2
        return rows >> 2
    return plane.repeat(down, axis=0).repeat(across, axis=1)


def _pairs(plane: np.ndarray, axis: int, near: int) -> np.ndarray:  # noqa: ARG001
    """Twice as many rows: `near` parts of each row and one of the row before, then of the row after; the border
    repeated."""
    before, after = np.concatenate([plane[:1], plane[:-1]]), np.concatenate([plane[1:], plane[-1:]])
    rows = np.empty((2 * len(plane), plane.shape[1]), np.int32)
    rows[::2], rows[1::2] = near * plane + before, near * plane + after
    return rows


def _rounded_pairs(plane: np.ndarray, even: int, odd: int, shift: int, first, last) -> np.ndarray:
    """Twice as many columns, summed alike and divided by 2**shift; the first and the last by (factor, half, shift)
    alone."""
    columns = np.empty((plane.shape[0], 2 * plane.shape[1]), np.int32)
    columns[:, 2::2] = 3 * plane[:, 1:] + plane[:, :-1] + even >> shift
    columns[:, 1:-1:2] = 3 * plane[:, :-1] + plane[:, 1:] + odd >> shift
    for place, (factor, half, by) in ((0, first), (-1, last)):
        columns[:, place] = plane[:, place] * factor + half >> by
    return columns


def _to_rgb(luma: np.ndarray, blue: np.ndarray, red: np.ndarray) -> np.ndarray:
    """ITU-R BT.601 in 16-bit fixed point."""
    half, blue, red = 1 << 15, blue - 128, red - 128
    rgb = np.empty((*luma.shape, 3), np.uint8)
    for channel, more in enumerate(
        (91881 * red + half >> 16, -22554 * blue - 46802 * red + half >> 16, 116130 * blue + half >> 16)
    ):
        rgb[:, :, channel] = (luma + more).clip(0, 255)
    return rgb
