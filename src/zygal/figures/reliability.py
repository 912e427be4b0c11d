"""The reliability diagram: how sure a classifier is, and how often it is right."""

from __future__ import annotations

from pathlib import Path

from zygal.figures.canvas import ARTIFACT, FAINT, INK, RECORDED, new_figure, write_figure
from zygal.tally.calibration import Calibration
from zygal.wording import percent


def draw_reliability(calibration: Calibration, title: str, path: str | Path) -> None:
    """Writes it as PNG. Raises OutputError."""
    figure = new_figure(1280, 800)
    figure.suptitle(title, x=0.012, ha="left", fontsize=13, color=INK, fontweight="bold")
    right, amount = figure.subplots(2, 1, sharex=True, height_ratios=(3.2, 1))
    filled = [each for each in calibration.bins if each.images]
    said = [each.said for each in filled]
    shares = [each.right for each in filled]
    right.plot((0, 1), (0, 1), color=FAINT, linewidth=1, linestyle="--", label="as often as it says")
    right.errorbar(
        said, [share.value for share in shares],
        yerr=[[share.value - share.low for share in shares], [share.high - share.value for share in shares]],
        color=ARTIFACT, ecolor=RECORDED, marker="o", markersize=6, linestyle="none", elinewidth=2, label="right (95 % interval)",
    )  # fmt: skip
    right.set_ylabel("share that is right", fontsize=11, color=INK)
    right.set_ylim(-0.02, 1.02)
    right.legend(loc="upper left", fontsize=10, frameon=False)
    right.text(
        0.985, 0.04,
        f"expected calibration error {calibration.error:.4f}\nsure {percent(calibration.said)} in the mean, right {percent(calibration.right)}",
        ha="right", va="bottom", fontsize=11, color=INK, transform=right.transAxes,
    )  # fmt: skip
    width = 1 / len(calibration.bins)
    amount.bar([each.low for each in filled], [each.images for each in filled], width=width, align="edge", color=RECORDED,
               edgecolor="white")  # fmt: skip
    for each in filled:
        amount.text(
            each.low + width / 2, each.images, str(each.images), ha="center", va="bottom", fontsize=9, color=INK
        )
    amount.set_ylabel("how many", fontsize=11, color=INK)
    amount.set_xlabel("probability that was said", fontsize=11, color=INK)
    amount.set_xlim(0, 1)
    amount.margins(y=0.25)
    for axes in (right, amount):
        axes.tick_params(colors=FAINT)
        for edge in ("top", "right"):
            axes.spines[edge].set_visible(False)
    write_figure(figure, path)
