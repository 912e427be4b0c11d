"""The region map: what carries an answer, drawn over the picture, for one classifier or two."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import numpy as np

from zygal.answers.regions import RegionMap
from zygal.figures.canvas import FAINT, INK, new_figure, show_picture, write_figure
from zygal.wording import percent

_FAINTEST = 0.85


def draw_regions(picture: np.ndarray, maps: Sequence[tuple[str, RegionMap]], title: str, path: str | Path) -> None:
    """picture: [H, W, 3] as it was fed; maps: with what each is called, all in one scale of colours. Raises OutputError."""
    figure = new_figure(1280, 560)
    figure.suptitle(title, x=0.012, ha="left", fontsize=13, color=INK, fontweight="bold")
    all_axes = figure.subplots(1, 1 + len(maps), squeeze=False)[0]
    show_picture(all_axes[0], picture)
    all_axes[0].set_title("as it is fed", fontsize=11, color=INK)
    most = max(float(np.abs(each.weight).max()) for _, each in maps) or 1.0
    shown = None
    for axes, (name, each) in zip(all_axes[1:], maps):
        show_picture(axes, picture.mean(axis=2, keepdims=True).repeat(3, axis=2))
        strength = np.abs(each.weight) / most
        shown = axes.imshow(
            each.weight, cmap="RdBu_r", vmin=-most, vmax=most, alpha=_FAINTEST * strength, interpolation="bilinear"
        )
        axes.set_title(f"{name}\n{each.said}: {percent(each.probability)}", fontsize=11, color=INK)
        axes.set_xlabel(
            f"patches of {each.patch[1]} by {each.patch[0]} pixels;\nthe worst of them leaves {percent(each.lowest)}",
            fontsize=9, color=FAINT,
        )  # fmt: skip
    bar = figure.colorbar(shown, ax=list(all_axes[1:]), shrink=0.7)
    bar.set_label("fall of the log-odds where covered", fontsize=9, color=INK)
    bar.solids.set_alpha(_FAINTEST)
    write_figure(figure, path)
