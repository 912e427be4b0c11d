"""What all figures have in common: no display, one look, files whole or not at all."""

from __future__ import annotations

import io
from pathlib import Path

import numpy as np

from zygal.files.writing import whole_file

INK, FAINT = "#1c2b33", "#6b7a83"
RECORDED, ARTIFACT = "#9aa7b0", "#b5541c"
"""Told apart by lightness as well as by colour."""


SOFTWARE = "Zygal"
"""Written into every picture, so that a picture of ours can be told from a photograph."""


def new_figure(width_pixels: int, height_pixels: int):
    """An empty figure of a size in pixels."""
    from matplotlib.figure import Figure

    figure = Figure(figsize=(width_pixels / 100, height_pixels / 100), dpi=100, layout="constrained")
    figure.set_facecolor("white")
    return figure


def show_picture(axes, pixels: np.ndarray, border: bool = True) -> None:
    """[H, W, 1 or 3]: uint8, or floats of 0 to 255."""
    pixels = np.clip(np.rint(pixels), 0, 255).astype(np.uint8)
    picture = pixels[:, :, 0] if pixels.shape[2] == 1 else pixels
    # Every pixel of a small tensor is to be seen.
    axes.imshow(
        picture, cmap="gray", vmin=0, vmax=255, interpolation="nearest" if max(pixels.shape) <= 256 else "antialiased"
    )
    axes.set_xticks([])
    axes.set_yticks([])
    for side in axes.spines.values():
        side.set_visible(border)
        side.set_color(FAINT)


def write_figure(figure, path: str | Path) -> None:
    """As PNG, or as SVG where the path ends so; the same figure gives the same bytes. Raises OutputError."""
    from matplotlib import rc_context

    buffer = io.BytesIO()
    if str(path).lower().endswith(".svg"):
        # Text stays text, so that it can be found, read aloud and copied.
        with rc_context({"svg.hashsalt": SOFTWARE, "svg.fonttype": "none"}):
            figure.savefig(buffer, format="svg", metadata={"Creator": SOFTWARE, "Date": None})
    else:
        figure.savefig(buffer, format="png", metadata={"Software": SOFTWARE})
    with whole_file(path) as file:
        file.write(buffer.getvalue())
