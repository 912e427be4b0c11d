"""Memory: what a batch will need, foreseen from what smaller ones needed."""

from __future__ import annotations

from collections.abc import Mapping

# What the operating system and other programs are left with.
KEPT_FREE = 0.1


def foreseen_bytes(peaks: Mapping[int, int], batch: int, image_bytes: int) -> int:
    """The peak memory at a batch size, from those measured at smaller ones: a straight line through the two largest.

    image_bytes: what an image's tensor itself takes, the least that another image costs.
    """
    known = sorted(peaks)
    slope = float(image_bytes)
    if len(known) > 1:
        slope = max(slope, (peaks[known[-1]] - peaks[known[-2]]) / (known[-1] - known[-2]))
    return int(peaks[known[-1]] + slope * (batch - known[-1]))
