"""The values and tensor stages: pixels to the model's numbers, in float32 and in the order in which training code does
it."""

from __future__ import annotations

from functools import lru_cache

import numpy as np

from zygal.inlet.specification import Tensor, Values


def to_tensor(pixels: np.ndarray, values: Values, tensor: Tensor) -> tuple[np.ndarray, np.ndarray]:
    """Pixels [H, W, C] as the model's numbers, [C, H, W] or [H, W, C].

    Also what one grey level is in those numbers, [channels]; 1 where the picture is flat and standardised.
    """
    height, width, channels = pixels.shape
    out = np.empty((channels, height, width) if tensor.layout == "NCHW" else (height, width, channels), tensor.dtype)
    channel_last = out.transpose(1, 2, 0) if tensor.layout == "NCHW" else out
    if tensor.dtype == "uint8":
        channel_last[...] = pixels if pixels.dtype == np.uint8 else np.clip(np.rint(pixels), 0, 255)
        return out, np.ones(channels)
    if values.per_image != "none":
        numbers, level = _by_image(_ranged(pixels, values), values)
        channel_last[...] = numbers
        return out, np.broadcast_to(level, (channels,))
    if pixels.dtype == np.uint8:
        # There are only 256 pixels: the result for each is computed once.
        for channel, table in enumerate(_tables(values, channels)):
            np.take(table, pixels[:, :, channel], out=channel_last[:, :, channel], mode="clip")
    else:
        channel_last[...] = _numbers(pixels, values)
    return out, grey_levels(values, channels)


def grey_levels(values: Values, channels: int) -> np.ndarray:
    """What one grey level is in each channel's numbers, where that does not depend on the image."""
    low, high = values.range
    return np.broadcast_to((high - low) / 255 / np.array(values.std or (1.0,)), (channels,))


def level_differences(tensor: np.ndarray, other: np.ndarray, level: np.ndarray, layout: str = "NHWC") -> np.ndarray:
    """Absolute differences of two tensors of one image in grey levels: 1/255 of the range before mean and std.

    level: what one grey level is in the tensors' numbers, [channels]. NaN on either side counts as an infinite
    difference, so that it cannot pass as none.
    """
    level = np.abs(level)[:, None, None] if layout == "NCHW" else np.abs(level)
    differences = np.abs(tensor.astype(np.float64) - other) / level
    return np.where(np.isnan(differences), np.inf, differences)


@lru_cache(maxsize=8)
def _tables(values: Values, channels: int) -> np.ndarray:
    levels = np.arange(256, dtype=np.uint8)[:, None, None]
    return np.ascontiguousarray(_numbers(np.broadcast_to(levels, (256, 1, channels)), values)[:, 0].T)


def _numbers(pixels: np.ndarray, values: Values) -> np.ndarray:
    numbers = _ranged(pixels, values)
    if values.mean is not None:
        numbers -= np.array(values.mean, np.float32)
    if values.std is not None:
        numbers /= np.array(values.std, np.float32)
    return numbers


def _ranged(pixels: np.ndarray, values: Values) -> np.ndarray:
    low, high = values.range
    numbers = pixels.astype(np.float32)
    # For the range 0 to 1 this is x / 255 and nothing else, as training code has it.
    if high - low != 255:
        numbers *= np.float32(high - low)
        numbers /= np.float32(255)
    if low:
        numbers += np.float32(low)
    return numbers


def _by_image(numbers: np.ndarray, values: Values) -> tuple[np.ndarray, np.ndarray]:
    """The numbers by the image's own mean and deviation, or its extremes; and one grey level in them."""
    axes = (0, 1) if values.per_image.endswith("-channels") else (0, 1, 2)
    unit = (values.range[1] - values.range[0]) / 255
    if values.per_image.startswith("stretch") or values.per_image == "by-maximum":
        low = (
            numbers.min(axis=axes, keepdims=True)
            if values.per_image != "by-maximum"
            else np.zeros((1, 1, 1), np.float32)
        )
        width = numbers.max(axis=axes, keepdims=True) - low
        safe = np.where(width > 0, width, np.float32(1))
        return (numbers - low) / safe, np.where(width > 0, unit / safe, 1.0).ravel()
    exact = numbers.astype(np.float64)
    mean = exact.mean(axis=axes, keepdims=True)
    count = numbers.size if axes == (0, 1, 2) else numbers.shape[0] * numbers.shape[1]
    deviation = np.maximum(exact.std(axis=axes, keepdims=True), count**-0.5)
    return ((exact - mean) / deviation).astype(np.float32), (unit / deviation).ravel()
