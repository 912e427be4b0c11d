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
SURE_LEVELS = 1.0
"""Up to this mean difference it is one picture, compressed or sized again; beyond it may be two overlapping crops of
one."""
_MOST_AT_ONCE = 4_000_000
_AT_ONCE = 2_000


@dataclass(frozen=True)
class Fingerprint:
    """bits: a number of 64 bits, the same but for a few in pictures that look alike. thumbnail: uint8 [16, 16, 3] as
    bytes."""

    bits: int
    thumbnail: bytes


def fingerprint(pixels: np.ndarray) -> Fingerprint:
    """Of pixels [H, W, 1 or 3] of 0 to 255.

    The bits say which of the 64 slowest waves of the brightness (discrete cosine transform of 32 by 32 means) are
    stronger than their median, as in Zauner, "Implementation and benchmarking of perceptual image hash functions",
    2010.
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


def duplicate_pairs(first: Sequence[Fingerprint], second: Sequence[Fingerprint] | None = None) -> list[tuple[int, int]]:
    """The places of pictures that are alike, in `first` and `second`, or both in `first` and the smaller one first.

    Within one list, pictures that are alike, or alike to ones that are, make up a cluster; enough pairs are given to
    join it, one fewer than it has pictures: a thousand frames of a still camera are not half a million pairs. Of two
    lists, each picture of the first is given with one of the second.
    """
    within = second is None
    second = first if within else second
    bits = [np.array([each.bits for each in side], np.uint64) for side in (first, second)]
    thumbnails = [_thumbnails(side) for side in (first, second)]
    found = _Clusters(len(first)) if within else _Matches(len(first))
    if within:
        # Of those with one fingerprint the first stands for all.
        leaders: dict[Fingerprint, int] = {}
        for index, each in enumerate(first):
            if leaders.setdefault(each, index) != index:
                found.add(leaders[each], index)
        chosen = np.array(sorted(leaders.values()), np.int64)
    else:
        chosen = None
    rows, columns = (np.arange(len(side)) if chosen is None else chosen for side in (first, second))
    for one, other in _near(bits[0][rows], bits[1][columns]):
        one, other = rows[one], columns[other]
        if within:
            one, other = one[one < other], other[one < other]
        for start in range(0, len(one), _AT_ONCE):
            # What is joined already need not be looked at again; that is nearly all, where many are alike.
            some = found.open(one[start : start + _AT_ONCE], other[start : start + _AT_ONCE])
            i, j = one[start : start + _AT_ONCE][some], other[start : start + _AT_ONCE][some]
            same = _same(thumbnails[0][i], thumbnails[1][j])
            for pair in zip(i[same].tolist(), j[same].tolist()):
                found.add(*pair)
    return sorted(found.pairs)


def is_sure(one: Fingerprint, other: Fingerprint) -> bool:
    """Whether two pictures that are alike are one picture for sure, and not two overlapping crops of one."""
    apart = _thumbnails([one]).astype(np.int16) - _thumbnails([other])
    return float(np.abs(apart).mean()) <= SURE_LEVELS


class _Clusters:
    """Places joined into clusters; `pairs` are those that joined two."""

    def __init__(self, count: int):
        self._cluster, self._members = np.arange(count), {index: [index] for index in range(count)}
        self.pairs: list[tuple[int, int]] = []

    def open(self, one: np.ndarray, other: np.ndarray) -> np.ndarray:
        return self._cluster[one] != self._cluster[other]

    def add(self, one: int, other: int) -> None:
        first_part, second_part = int(self._cluster[one]), int(self._cluster[other])
        if first_part == second_part:
            return
        if len(self._members[first_part]) < len(self._members[second_part]):
            first_part, second_part = second_part, first_part
        moved = self._members.pop(second_part)
        self._members[first_part] += moved
        self._cluster[moved] = first_part
        self.pairs.append((one, other))


class _Matches:
    """For each place of one list the first that was found of the other."""

    def __init__(self, count: int):
        self._found = np.zeros(count, bool)
        self.pairs: list[tuple[int, int]] = []

    def open(self, one: np.ndarray, other: np.ndarray) -> np.ndarray:
        return ~self._found[one]

    def add(self, one: int, other: int) -> None:
        if not self._found[one]:
            self._found[one] = True
            self.pairs.append((one, other))


def _thumbnails(side: Sequence[Fingerprint]) -> np.ndarray:
    """uint8 [pictures, bytes]"""
    return np.frombuffer(b"".join(each.thumbnail for each in side), np.uint8).reshape(
        len(side), THUMBNAIL * THUMBNAIL * 3
    )


def _near(one: np.ndarray, other: np.ndarray) -> Iterator[tuple[np.ndarray, np.ndarray]]:
    """Places whose bits differ in eleven or fewer, many at a time: of four parts of 16 bits one then differs in two or
    fewer."""
    for shift in (0, 16, 32, 48):
        first_part, second_part = (
            ((side >> np.uint64(shift)) & np.uint64(0xFFFF)).astype(np.uint16) for side in (one, other)
        )
        # Both in order, so that what is looked up lies close to what was looked up before.
        rows, order = (np.argsort(side, kind="stable") for side in (first_part, second_part))
        first_part, second_part, sorted_one = first_part[rows], second_part[order], one[rows]
        for mask in _small_masks():
            begin, end = (np.searchsorted(second_part, first_part ^ mask, side) for side in ("left", "right"))
            step = max(1, _MOST_AT_ONCE // max(1, int((end - begin).max(initial=0))))
            for start in range(0, len(first_part), step):
                i, j = _compared(sorted_one, other, order, begin, end, slice(start, start + step))
                yield rows[i], j


def _compared(one, other, order, begin, end, some: slice) -> tuple[np.ndarray, np.ndarray]:
    """Of some rows and the columns order[begin:end] of each, those that are near."""
    count = (end - begin)[some]
    rows = np.repeat(np.arange(len(one))[some], count)
    within_row = np.arange(len(rows)) - np.repeat(np.cumsum(count) - count, count)
    columns = order[np.repeat(begin[some], count) + within_row]
    near = _bits_set(one[rows] ^ other[columns]) <= NEAR_BITS
    return rows[near], columns[near]


@lru_cache
def _small_masks() -> tuple[np.uint16, ...]:
    """All numbers of 16 bits with two bits set or fewer."""
    single = [1 << index for index in range(16)]
    return tuple(np.uint16(mask) for mask in {0, *single, *(a | b for a in single for b in single)})


def _bits_set(numbers: np.ndarray) -> np.ndarray:
    """How many bits of each number are 1."""
    counts = _counts_of_16_bits()
    return sum(counts[(numbers >> np.uint64(shift)) & np.uint64(0xFFFF)] for shift in (0, 16, 32, 48))


@lru_cache
def _counts_of_16_bits() -> np.ndarray:
    return np.array([bin(number).count("1") for number in range(1 << 16)], np.uint8)


def _same(one: np.ndarray, other: np.ndarray) -> np.ndarray:
    """Whether thumbnails [pairs, bytes] show one picture."""
    apart = np.abs(one.astype(np.int16) - other)
    return (apart.mean(axis=1) <= NEAR_LEVELS) & (apart.max(axis=1, initial=0) <= FAR_LEVELS)
