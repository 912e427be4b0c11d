"""The region map: what supports and what opposes a prediction, drawn over the image, for one classifier or two."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from zygal.canvas import FAINT, INK, new_figure, show_picture, write_figure
from zygal.prediction.regions import RegionMap
from zygal.wording import percent

_OPACITY = 0.85
SUPPORTS, OPPOSES = "#d9730d", "#1b7f8c"
"""Orange and blue-green: told apart with any colour vision."""


def _colours():
    from matplotlib.colors import LinearSegmentedColormap

    return LinearSegmentedColormap.from_list("support", [OPPOSES, "#f2f2f2", SUPPORTS])


@dataclass(frozen=True)
class MappedPicture:
    """name: of the classifier. picture: [H, W, 3], the input in natural colours. found: what supports the
    prediction."""

    name: str
    picture: np.ndarray
    found: RegionMap


def draw_regions(mapped: Sequence[MappedPicture], title: str, path: str | Path) -> None:
    """Writes the first picture, and all maps over desaturated pictures with one colour scale, as PNG. Raises
    OutputError."""
    figure = new_figure(1280, 560)
    figure.suptitle(title, x=0.012, ha="left", fontsize=13, color=INK, fontweight="bold")
    all_axes = figure.subplots(1, 1 + len(mapped), squeeze=False)[0]
    show_picture(all_axes[0], mapped[0].picture)
    all_axes[0].set_title("model input", fontsize=11, color=INK)
    most = max(float(np.abs(each.found.weight).max()) for each in mapped) or 1.0
    shown = None
    for axes, each in zip(all_axes[1:], mapped):
        show_picture(axes, each.picture.mean(axis=2, keepdims=True))
        weight, patch = each.found.weight, each.found.patch
        shown = axes.imshow(
            weight,
            cmap=_colours(),
            vmin=-most,
            vmax=most,
            alpha=_OPACITY * np.abs(weight) / most,
            interpolation="bilinear",
        )
        axes.set_title(
            f"{each.name}\n{each.found.predicted}: {percent(each.found.probability)}", fontsize=11, color=INK
        )
        axes.set_xlabel(
            f"patches of {patch[1]} x {patch[0]} pixels;\nlowest probability with one covered: "
            f"{percent(each.found.lowest)}",
            fontsize=9,
            color=FAINT,
        )
    bar = figure.colorbar(shown, ax=list(all_axes[1:]), shrink=0.7)
    bar.set_label("opposes          log-odds lost if covered          supports", fontsize=9, color=INK)
    bar.solids.set_alpha(_OPACITY)
    write_figure(figure, path)
