"""Images read at places that the model itself works out."""

from __future__ import annotations

import numpy as np

from zygal.graph.ops.base import ANYTHING, FLOATS, Operator, Parameter, register
from zygal.graph.ops.resampling import filter_kernel
from zygal.graph.shapes import TensorType

MODES_BEFORE_20 = {"linear": "bilinear", "nearest": "nearest", "cubic": "bicubic"}


@register
class GridSample(Operator):
    """x [N, C, H, W] read at grid [N, h, w, 2], whose pairs (x, y) run from -1 to 1; Jaderberg et al., 2015."""

    name = "GridSample"
    apart = frozenset((1,))
    accepts = (ANYTHING, FLOATS)
    parameters = (Parameter("mode", "linear"), Parameter("padding_mode", "zeros"), Parameter("align_corners", 0))

    def complete(self, attributes):
        complete = super().complete(attributes)
        now = {old: new for new, old in MODES_BEFORE_20.items()}
        complete["mode"] = now.get(complete["mode"], complete["mode"])
        return complete

    def infer(self, inputs, attributes):
        x, grid = inputs
        if x.rank != 4 or grid.rank != 4 or grid.shape[-1] != 2 or grid.shape[0] != x.shape[0]:
            raise ValueError("it reads images at pairs of places")
        return [TensorType(x.dtype, (*x.shape[:2], *grid.shape[1:3]))]

    def compute(self, inputs, attributes):
        x, grid = inputs
        corners = attributes["align_corners"]
        sizes = x.shape[3], x.shape[2]
        places = [
            (grid[..., at].astype(np.float64) + 1) / 2 * (n - 1 if corners else n) - (0 if corners else 0.5)
            for at, n in enumerate(sizes)
        ]
        if attributes["mode"] != "cubic":
            places = [self._inside(p, n, attributes) for p, n in zip(places, sizes)]
        if attributes["mode"] == "nearest":
            return [self._read(x, *(np.rint(p) for p in places), attributes)]
        reach = range(-1, 3) if attributes["mode"] == "cubic" else range(2)
        weigh = filter_kernel(attributes["mode"], -0.75)
        starts = [np.floor(p) for p in places]
        made = np.zeros((*x.shape[:2], *grid.shape[1:3]))
        for down in reach:
            for right in reach:
                column, row = starts[0] + right, starts[1] + down
                weight = weigh(places[0] - column) * weigh(places[1] - row)
                made += weight[:, None] * self._read(x, column, row, attributes)
        return [made.astype(x.dtype)]

    @staticmethod
    def _inside(places, size, attributes):
        """Places beyond the image, brought back to its border or mirrored there."""
        if attributes["padding_mode"] == "zeros":
            return places
        if attributes["padding_mode"] == "reflection":
            low, high = (0, size - 1) if attributes["align_corners"] else (-0.5, size - 0.5)
            span = max(high - low, 1)
            places = np.abs(places - low) % (2 * span)
            places = np.where(places > span, 2 * span - places, places) + low
        return np.clip(places, 0, size - 1)

    def _read(self, x, column, row, attributes):
        """The pixels [N, C, h, w] at whole places; nothing lies beyond the image."""
        height, width = x.shape[2:]
        if attributes["mode"] == "cubic":
            column, row = self._inside(column, width, attributes), self._inside(row, height, attributes)
        known = (column >= 0) & (column < width) & (row >= 0) & (row < height)
        columns, rows = (np.clip(p, 0, n - 1).astype(np.int64) for p, n in ((column, width), (row, height)))
        picked = x[np.arange(len(x))[:, None, None], :, rows, columns]  # [N, h, w, C]
        return np.moveaxis(picked * known[..., None], -1, 1).astype(x.dtype)
