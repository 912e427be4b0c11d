"""The sheet of a match: the images that differ most, both top 3, and where their tensors differ."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from zygal.canvas import ARTIFACT, FAINT, INK, RECORDED, new_figure, show_picture, write_figure

Ranks = Sequence[tuple[str, float]]


@dataclass(frozen=True)
class SheetRow:
    """One image. picture: [H, W, 3] uint8. recorded, ours: label and score, best first. difference: [H, W] in grey
    levels, or None if the tensors cannot be compared. score_difference: of the spread."""

    name: str
    picture: np.ndarray
    recorded: Ranks
    ours: Ranks
    difference: np.ndarray | None
    score_difference: float


def draw_sheet(rows: Sequence[SheetRow], title: str, path: str | Path) -> None:
    """Writes the sheet as PNG. Raises OutputError."""
    figure = new_figure(1280, 110 + 172 * len(rows))
    figure.suptitle(title, x=0.012, ha="left", fontsize=12, color=INK, fontweight="bold")
    grid = figure.subplots(len(rows), 4, squeeze=False, width_ratios=(1.1, 1.6, 1.6, 1.3))
    scores = [score for row in rows for _, score in (*row.recorded, *row.ours)]
    limits = min(0.0, *scores), max(0.0, *scores)
    largest = max((float(row.difference.max()) for row in rows if row.difference is not None), default=0.0) or 1.0
    shown = None
    for index, (axes, row) in enumerate(zip(grid, rows)):
        show_picture(axes[0], row.picture)
        axes[0].set_ylabel(row.name, fontsize=9, color=INK)
        for bars, ranks, colour in ((axes[1], row.recorded, RECORDED), (axes[2], row.ours, ARTIFACT)):
            _draw_ranks(bars, ranks, colour, limits)
        axes[2].set_xlabel(f"scores differ by {row.score_difference:.3g} of the spread", fontsize=8.5, color=FAINT)
        shown = _draw_difference(axes[3], row.difference, largest) or shown
        if index == 0:
            for each, text in zip(axes, ("image", "recorded top 3", "artifact top 3", "tensor difference")):
                each.set_title(text, fontsize=11, color=INK)
    if shown is not None:
        figure.colorbar(shown, ax=grid[:, 3].tolist(), label="grey levels", shrink=0.9)
    write_figure(figure, path)


def _draw_ranks(axes, ranks: Ranks, colour: str, limits: tuple[float, float]) -> None:
    indices = range(len(ranks))
    axes.barh(indices, [score for _, score in ranks], color=colour, height=0.62)
    axes.set_yticks(indices, [label for label, _ in ranks], fontsize=9, color=INK)
    axes.invert_yaxis()
    width = limits[1] - limits[0]
    axes.set_xlim(limits[0] - (0.24 if limits[0] < 0 else 0) * width, limits[1] + 0.16 * width)
    for index, (_, score) in enumerate(ranks):
        beyond = score >= 0
        axes.text(
            score + (0.01 if beyond else -0.01) * width,
            index,
            f"{score:.3f}",
            va="center",
            ha="left" if beyond else "right",
            fontsize=8.5,
            color=INK,
        )
    axes.axvline(0, color=FAINT, linewidth=0.6)
    axes.tick_params(axis="x", labelsize=8, colors=FAINT)
    axes.tick_params(axis="y", length=0)
    for side in ("top", "right", "left"):
        axes.spines[side].set_visible(False)


def _draw_difference(axes, difference: np.ndarray | None, largest: float):
    axes.set_xticks([])
    axes.set_yticks([])
    if difference is None:
        axes.text(
            0.5, 0.5, "not comparable", ha="center", va="center", fontsize=9, color=FAINT, transform=axes.transAxes
        )
        return None
    axes.set_xlabel(f"max {difference.max():.3g}", fontsize=8.5, color=FAINT)
    return axes.imshow(difference, cmap="cividis", vmin=0, vmax=largest, interpolation="nearest")
