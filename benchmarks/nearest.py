"""Nearest resizes against the frameworks: every pair of sizes up to 512, each of the framework's kernels.

    python benchmarks/nearest.py [LARGEST]

Printed for each mode: pairs, how many differ, how many are refused because the framework's own kernels disagree.
TensorFlow is left out where it is not installed.
"""

import sys

import numpy as np
import torch

from zygal.sources.pytorch.table_resampling import nearest_places
from zygal.sources.tensorflow.table_resizing import nearest_places as tensorflow_places


def of_pytorch(largest: int, exact: bool) -> tuple[int, int, int]:
    mode, total, wrong, refused = "nearest-exact" if exact else "nearest", 0, 0, 0
    for size in range(1, largest + 1):
        row = torch.arange(size, dtype=torch.float32).reshape(1, 1, 1, size)
        wide = row.expand(1, 8, 2, size).contiguous(memory_format=torch.channels_last)
        for wanted in range(1, largest + 1):
            places, total = nearest_places(size, wanted, None, np.float32, exact), total + 1
            if places is None:
                refused += 1
                continue
            found = [
                torch.nn.functional.interpolate(each, size=(1, wanted), mode=mode)[0, 0, 0] for each in (row, wide)
            ]
            found.append(torch.nn.functional.interpolate(row[0], size=(wanted,), mode=mode)[0, 0])
            wrong += any(not np.array_equal(each.numpy().astype(int), places) for each in found)
    return total, wrong, refused


def of_tensorflow(largest: int, grid: str, **more) -> tuple[int, int, int]:
    import tensorflow

    total = wrong = 0
    for size in range(1, largest + 1):
        row = np.arange(size, dtype=np.float32).reshape(1, 1, size, 1)
        for wanted in range(1, largest + 1):
            found = (
                tensorflow.raw_ops.ResizeNearestNeighbor(images=row, size=[1, wanted], **more)
                .numpy()[0, 0, :, 0]
                .astype(int)
            )
            total, wrong = total + 1, wrong + (not np.array_equal(found, tensorflow_places(size, wanted, grid)))
    return total, wrong, 0


def main(largest: str = "512") -> None:
    found = {f"PyTorch nearest{'-exact' if exact else ''}": of_pytorch(int(largest), exact) for exact in (False, True)}
    try:
        grids = {"asymmetric": {}, "half_pixel": {"half_pixel_centers": True}, "align_corners": {"align_corners": True}}
        found |= {f"TensorFlow {grid}": of_tensorflow(int(largest), grid, **more) for grid, more in grids.items()}
    except ImportError:
        print("TensorFlow is not installed")
    for name, (total, wrong, refused) in found.items():
        print(f"{name}: {total} pairs of sizes, {wrong} differ, {refused} refused")


if __name__ == "__main__":
    main(*sys.argv[1:])
