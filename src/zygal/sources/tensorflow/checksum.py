"""CRC-32C (Castagnoli; RFC 3720, appendix B.4) of large arrays in NumPy.

A message is a polynomial over two elements, and its checksum the remainder by P. The remainder stays the same if the
message is first reduced by a multiple of P. One with six terms, all of them powers of x^64, is M below; reducing by it
is five exclusive ors of whole words with words further on. So is its square, whose exponents are twice as large: the
larger the exponents, the longer the stretches. What is left is short enough for a table of what each byte at each place
adds.
"""

from __future__ import annotations

from functools import cache

import numpy as np

_POLYNOMIAL = 0x82F63B78
_STRETCH = 65
_FURTHER_ON = (65, 155, 170, 195, 209)
"""M = 1 + y^14 + y^39 + y^54 + y^144 + y^209 with y = x^64: how many words further on the word of the highest power
goes."""
_SCALES = (32, 8, 1)
_PIECE_WORDS = 1 << 18


def _table() -> list[int]:
    made = []
    for byte in range(256):
        for _ in range(8):
            byte = byte >> 1 ^ (_POLYNOMIAL if byte & 1 else 0)
        made.append(byte)
    return made


_TABLE = _table()
_LONGEST = 8 * (_STRETCH + _FURTHER_ON[-1])


@cache
def _shares() -> np.ndarray:
    """What each value of a byte adds to the checksum of the longest message that is left, by its place [places,
    256]."""
    table = np.array(_TABLE, np.uint32)
    made = np.empty((_LONGEST, 256), np.uint32)
    made[-1] = table
    for place in range(_LONGEST - 2, -1, -1):
        made[place] = table[made[place + 1] & 0xFF] ^ made[place + 1] >> 8
    return made


def crc32c(content: bytes | memoryview | np.ndarray) -> int:
    """The checksum of bytes, or of an array's bytes in memory."""
    given = (
        np.frombuffer(content, np.uint8) if not isinstance(content, np.ndarray) else content.reshape(-1).view(np.uint8)
    )
    if given.size < 4:
        state = 0xFFFFFFFF
        for byte in given.tolist():
            state = _TABLE[(state ^ byte) & 0xFF] ^ state >> 8
        return state ^ 0xFFFFFFFF
    if given.size > _LONGEST:
        left = _reduced(given)
    else:
        left = given.copy()
        left[:4] ^= 0xFF
    shares = _shares()[_LONGEST - left.size :]
    return int(np.bitwise_xor.reduce(shares[np.arange(left.size), left])) ^ 0xFFFFFFFF


def masked(checksum: int) -> int:
    """As tables of variables store it, so that a checksum of checksums is no trivial one."""
    return ((checksum >> 15 | checksum << 17) + 0xA282EAD8) & 0xFFFFFFFF


def _reduced(given: np.ndarray) -> np.ndarray:
    """A shorter message with the same remainder, of at most `_LONGEST` bytes; the state of all ones at the beginning is
    part of it."""
    lead = -given.size % 8  # Zeros in front change no remainder.
    first = np.zeros(8 * 64, np.uint8)
    first[lead : lead + first.size - lead] = given[: first.size - lead]
    first[lead : lead + 4] ^= 0xFF
    rest = np.frombuffer(given[first.size - lead :], np.uint64)
    carry = first.view(np.uint64)
    for start in range(0, rest.size, _PIECE_WORDS):
        carry = np.concatenate([carry, rest[start : start + _PIECE_WORDS]])
        carry = _folded(carry, _SCALES[0])
    for scale in _SCALES[1:]:
        carry = _folded(carry, scale)
    return carry.view(np.uint8)


def _folded(words: np.ndarray, scale: int) -> np.ndarray:
    stretch, reach = _STRETCH * scale, _FURTHER_ON[-1] * scale
    place = 0
    while place + stretch + reach <= words.size:
        top = words[place : place + stretch]
        for further in _FURTHER_ON:
            words[place + further * scale : place + further * scale + stretch] ^= top
        place += stretch
    return words[place:]
