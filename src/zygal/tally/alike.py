"""Pictures that are the same though their files may not be: by a perceptual hash, confirmed on a thumbnail."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from PIL import Image

SIDE, KEPT, THUMBNAIL = 32, 8, 16
NEAR_BITS = 11
NEAR_LEVELS, FAR_LEVELS = 5.0, 48.0
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
    """The places of pictures that are alike, in `first` and `second`, or both in `first` and the smaller one first.

    Of many with one fingerprint the first stands for all, so that a thousand black pictures are a thousand pairs.
    """
    within = second is None
    second = first if within else second
    leaders: dict[Fingerprint, int] = {}
    for place, each in enumerate(second):
        leaders.setdefault(each, place)
    pairs = {(leaders[each], place) for place, each in enumerate(first) if within and leaders[each] != place}
    rows = sorted(leaders.values()) if within else list(range(len(first)))
    columns = sorted(leaders.values())
    one, other = (
        np.array([side[i].bits for i in some], np.uint64) for side, some in ((first, rows), (second, columns))
    )
    for i, j in _near(one, other):
        i, j = rows[i], columns[j]
        if (not within or i < j) and _same(first[i].thumbnail, second[j].thumbnail):
            pairs.add((i, j))
    return sorted(pairs)


def _near(one: np.ndarray, other: np.ndarray) -> Iterator[tuple[int, int]]:
    """Places whose bits differ in eleven or fewer: of four parts of 16 bits one then differs in two or fewer."""
    for shift in (0, 16, 32, 48):
        mine, theirs = (((side >> np.uint64(shift)) & np.uint64(0xFFFF)).astype(np.uint16) for side in (one, other))
        # Both in order, so that what is looked up lies close to what was looked up before.
        rows, order = (np.argsort(side, kind="stable") for side in (mine, theirs))
        mine, theirs, sorted_one = mine[rows], theirs[order], one[rows]
        for mask in _small_masks():
            begin, end = (np.searchsorted(theirs, mine ^ mask, side) for side in ("left", "right"))
            for start in range(0, len(mine), max(1, _MOST_AT_ONCE // max(1, int((end - begin).max(initial=0))))):
                for i, j in _compared(sorted_one, other, order, begin, end, start):
                    yield int(rows[i]), j


def _compared(one, other, order, begin, end, start: int) -> Iterator[tuple[int, int]]:
    """Of some rows from `start` on and the columns order[begin:end] of each, those that are near."""
    some = slice(start, start + max(1, _MOST_AT_ONCE // max(1, int((end - begin).max(initial=0)))))
    count = (end - begin)[some]
    rows = np.repeat(np.arange(len(one))[some], count)
    within_row = np.arange(len(rows)) - np.repeat(np.cumsum(count) - count, count)
    columns = order[np.repeat(begin[some], count) + within_row]
    near = _bits_set(one[rows] ^ other[columns]) <= NEAR_BITS
    yield from zip(rows[near].tolist(), columns[near].tolist())


@lru_cache
def _small_masks() -> tuple[np.uint16, ...]:
    """All numbers of 16 bits with two bits set or fewer."""
    single = [1 << place for place in range(16)]
    return tuple(np.uint16(mask) for mask in {0, *single, *(a | b for a in single for b in single)})


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
