"""The reliability diagram: accuracy over confidence."""

from __future__ import annotations

from pathlib import Path

from zygal.canvas import ARTIFACT, FAINT, INK, RECORDED, new_figure, write_figure
from zygal.tally.calibration import Calibration
from zygal.wording import percent


def draw_reliability(calibration: Calibration, title: str, path: str | Path) -> None:
    """Writes it as PNG. Raises OutputError."""
    figure = new_figure(1280, 800)
    figure.suptitle(title, x=0.012, ha="left", fontsize=13, color=INK, fontweight="bold")
    upper, lower = figure.subplots(2, 1, sharex=True, height_ratios=(3.2, 1))
    filled = [each for each in calibration.bins if each.images]
    confidence = [each.confidence for each in filled]
    shares = [each.accuracy for each in filled]
    upper.plot((0, 1), (0, 1), color=FAINT, linewidth=1, linestyle="--", label="perfect calibration")
    upper.errorbar(
        confidence,
        [share.value for share in shares],
        yerr=[[share.value - share.low for share in shares], [share.high - share.value for share in shares]],
        color=ARTIFACT,
        ecolor=RECORDED,
        marker="o",
        markersize=6,
        linestyle="none",
        elinewidth=2,
        label="accuracy (95 % CI)",
    )
    upper.set_ylabel("accuracy", fontsize=11, color=INK)
    upper.set_ylim(-0.02, 1.02)
    upper.legend(loc="upper left", fontsize=10, frameon=False)
    upper.text(
        0.985,
        0.04,
        f"expected calibration error {calibration.expected_error:.4f}\nmean confidence "
        f"{percent(calibration.confidence)}, accuracy {percent(calibration.accuracy.value)}",
        ha="right",
        va="bottom",
        fontsize=11,
        color=INK,
        transform=upper.transAxes,
    )
    width = 1 / len(calibration.bins)
    lower.bar(
        [each.low for each in filled],
        [each.images for each in filled],
        width=width,
        align="edge",
        color=RECORDED,
        edgecolor="white",
    )
    for each in filled:
        lower.text(each.low + width / 2, each.images, str(each.images), ha="center", va="bottom", fontsize=9, color=INK)
    lower.set_ylabel("predictions", fontsize=11, color=INK)
    lower.set_xlabel("confidence", fontsize=11, color=INK)
    lower.set_xlim(0, 1)
    lower.margins(y=0.25)
    for axes in (upper, lower):
        axes.tick_params(colors=FAINT)
        for edge in ("top", "right"):
            axes.spines[edge].set_visible(False)
    write_figure(figure, path)
