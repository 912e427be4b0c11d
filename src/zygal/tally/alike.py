"""Pictures that are the same though their files may not be: by a perceptual hash, confirmed on a thumbnail."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from PIL import Image

SIDE, KEPT, THUMBNAIL = 32, 8, 16
NEAR_BITS = 7
NEAR_LEVELS, FAR_LEVELS = 3.0, 24.0
"""Two thumbnails show one picture if they differ by no more grey levels than these in the mean and at most."""
_MOST_AT_ONCE = 4_000_000


@dataclass(frozen=True)
class Fingerprint:
    """bits: a number of 64 bits, the same but for a few in pictures that look alike. thumbnail: uint8 [16, 16, 3] as bytes."""

    bits: int
    thumbnail: bytes


def fingerprint(pixels: np.ndarray) -> Fingerprint:
    """Of pixels [H, W, 1 or 3] of 0 to 255.

    The bits say which of the 64 slowest waves of the brightness (discrete cosine transform of 32 by 32 means) are stronger
    than their median, as in Zauner, "Implementation and benchmarking of perceptual image hash functions", 2010.
    """
    if pixels.dtype != np.uint8:
        pixels = np.clip(np.rint(pixels), 0, 255).astype(np.uint8)
    picture = Image.fromarray(np.ascontiguousarray(pixels[:, :, 0] if pixels.shape[2] == 1 else pixels))
    grey = np.asarray(picture.convert("L").resize((SIDE, SIDE), Image.Resampling.BOX), np.float64)
    waves = _waves()
    strength = (waves @ grey @ waves.T).ravel()
    bits = np.packbits(strength > np.median(strength[1:]))
    small = picture.convert("RGB").resize((THUMBNAIL, THUMBNAIL), Image.Resampling.BOX)
    return Fingerprint(int.from_bytes(bits.tobytes(), "big"), small.tobytes())


@lru_cache
def _waves() -> np.ndarray:
    """The first rows of the discrete cosine transform of 32 numbers."""
    return np.cos(np.pi / SIDE * (np.arange(SIDE) + 0.5)[None, :] * np.arange(KEPT)[:, None])


def pairs_alike(first: Sequence[Fingerprint], second: Sequence[Fingerprint] | None = None) -> list[tuple[int, int]]:
    """The places of pictures that are alike, in `first` and `second`, or both in `first` and the smaller one first."""
    within = second is None
    second = first if within else second
    if not first or not second:
        return []
    one, other = (np.array([each.bits for each in side], np.uint64) for side in (first, second))
    pairs = {
        (i, j) for i, j in _near(one, other) if (not within or i < j) and _same(first[i].thumbnail, second[j].thumbnail)
    }
    return sorted(pairs)


def _near(one: np.ndarray, other: np.ndarray) -> Iterator[tuple[int, int]]:
    """Places whose bits differ in few. Of eight parts of 8 bits, seven differing bits leave one part the same."""
    for part in range(8):
        shift = np.uint64(8 * part)
        mine, theirs = (((side >> shift) & np.uint64(255)).astype(np.intp) for side in (one, other))
        for value in np.intersect1d(mine, theirs):
            rows, columns = np.flatnonzero(mine == value), np.flatnonzero(theirs == value)
            step = max(1, _MOST_AT_ONCE // len(columns))
            for start in range(0, len(rows), step):
                some = rows[start : start + step]
                near = _bits_set(one[some][:, None] ^ other[columns][None, :]) <= NEAR_BITS
                for i, j in np.argwhere(near):
                    yield int(some[i]), int(columns[j])


def _bits_set(numbers: np.ndarray) -> np.ndarray:
    """How many bits of each number are 1."""
    counts = _counts_of_16_bits()
    return sum(counts[(numbers >> np.uint64(shift)) & np.uint64(0xFFFF)] for shift in (0, 16, 32, 48))


@lru_cache
def _counts_of_16_bits() -> np.ndarray:
    return np.array([bin(number).count("1") for number in range(1 << 16)], np.uint8)


def _same(one: bytes, other: bytes) -> bool:
    apart = np.abs(np.frombuffer(one, np.uint8).astype(np.int16) - np.frombuffer(other, np.uint8))
    return apart.mean() <= NEAR_LEVELS and apart.max() <= FAR_LEVELS
