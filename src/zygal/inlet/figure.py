"""The strip: an image after each stage of an inlet."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from textwrap import fill

from zygal.canvas import FAINT, INK, new_figure, show_picture, write_figure
from zygal.inlet.stages import Stage


def draw_strip(stages: Sequence[Stage], title: str, path: str | Path) -> None:
    """Writes the strip as PNG, all pictures in one row at one scale of their boxes. Raises OutputError."""
    figure = new_figure(1280, 440)
    figure.suptitle(title, x=0.012, ha="left", fontsize=13, color=INK, fontweight="bold")
    wide = max(12, 150 // len(stages))
    for axes, stage in zip(figure.subplots(1, len(stages), squeeze=False)[0], stages):
        show_picture(axes, stage.picture)
        axes.set_anchor("N")
        height, width = stage.picture.shape[:2]
        axes.set_title(fill(stage.name, wide), fontsize=11, color=INK)
        numbers = f"{width} x {height} pixels\n{stage.low:.4g} to {stage.high:.4g}"
        axes.set_xlabel(f"{numbers}\n\n{fill(stage.does, wide)}", fontsize=9, color=FAINT)
    write_figure(figure, path)
