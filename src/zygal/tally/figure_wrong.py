"""The sheet of wrong predictions: the image, its true class, the predicted class and the confidence."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from textwrap import shorten

import numpy as np

from zygal.canvas import ARTIFACT, FAINT, INK, new_figure, show_picture, write_figure
from zygal.errors import ImageError
from zygal.inlet.decode import decode_image
from zygal.inlet.specification import Decode
from zygal.tally.tally import Misclassified
from zygal.wording import percent

COLUMNS = 4


def draw_wrong(wrong: Sequence[Misclassified], total: int, title: str, path: str | Path) -> None:
    """Writes the images as PNG in the order given, out of so many in all. Raises OutputError."""
    rows = -(-len(wrong) // COLUMNS)
    figure = new_figure(1280, 60 + 290 * rows)
    figure.suptitle(f"{title} ({len(wrong)} of {total})", x=0.012, ha="left", fontsize=13, color=INK, fontweight="bold")
    grid = figure.subplots(rows, COLUMNS, squeeze=False).ravel()
    for axes, each in zip(grid, wrong):
        try:
            show_picture(axes, np.asarray(decode_image(each.path, Decode(exif="apply", sixteen_bit="high-byte"))))
        except ImageError:
            # It was readable a moment ago; its caption is drawn all the same.
            axes.set_axis_off()
        axes.set_anchor("NW")
        axes.set_title(f"true: {_names(each.true)}", fontsize=11, color=INK, loc="left")
        truth = "" if each.true_class_probability is None else f"; true class {percent(each.true_class_probability)}"
        _below(
            axes,
            6,
            f"predicted: {_names(each.predicted)}  {percent(each.confidence)}",
            fontsize=11,
            color=ARTIFACT,
            fontweight="bold",
        )
        # The layout makes room for the label, and so for what stands in its two empty lines.
        axes.set_xlabel(f"\n\n{_end_of(each.path)}{truth}", fontsize=8, color=FAINT, loc="left")
    for axes in grid[len(wrong) :]:
        axes.set_axis_off()
    write_figure(figure, path)


def _names(names: Sequence[str]) -> str:
    return shorten(", ".join(names) or "no label", 34, placeholder="...")


def _below(axes, points: int, text: str, **look) -> None:
    """A line of text so far below the picture."""
    axes.annotate(text, (0, 0), (0, -points), "axes fraction", "offset points", ha="left", va="top", **look)


def _end_of(path: str, most: int = 26) -> str:
    return path if len(path) <= most else f"...{path[-most + 3 :]}"
