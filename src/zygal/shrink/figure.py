"""The trade-off of an artifact in 8 bits: what each candidate loses, over how fast it is."""

from __future__ import annotations

from pathlib import Path

from zygal.canvas import ARTIFACT, FAINT, INK, RECORDED, new_figure, write_figure
from zygal.shrink.choose import Budget
from zygal.shrink.shrink import Result
from zygal.shrink.trial import Point


def draw_trade_off(found: Result, budget: Budget, artifact: str, batch: int, path: str | Path) -> None:
    """Agreement above, score error below, over the speed; a point for each candidate, with the number of layers that it
    keeps in float."""
    choice = found.choice
    figure = new_figure(1280, 800)
    figure.suptitle(
        f"{Path(artifact).name} in 8 bits: what each choice of float layers loses and gains", fontsize=14, color=INK
    )
    above, below = figure.subplots(2, 1, sharex=True)
    ladder = [point for point in choice.points if point.speed]
    ends = choice.ends if choice.ends and choice.ends.speed else None
    for axes, amount in ((above, lambda point: 100 * point.agreement.value), (below, lambda point: 100 * point.error)):
        _draw_points(axes, ladder, ends, choice.final, amount)
        axes.axvline(1.0, color=FAINT, linewidth=1, linestyle=":")
        axes.grid(True, color="#e3e8ea", linewidth=0.8)
        axes.set_axisbelow(True)
        for side in ("top", "right"):
            axes.spines[side].set_visible(False)
    if budget.agree is not None:
        above.axhline(
            100 * budget.agree, color=FAINT, linewidth=1.2, linestyle="--", label=f"asked for: {100 * budget.agree:g} %"
        )
    if budget.speed is not None:
        for axes in (above, below):
            axes.axvline(budget.speed, color=FAINT, linewidth=1.2, linestyle="--")
    above.set_ylabel("images with the same top-1 (%)", color=INK)
    below.set_ylabel("score error (% of the spread, RMS)", color=INK)
    below.set_ylim(
        0, 1.15 * max((100 * point.error for point in (*ladder, *([ends] if ends else []))), default=1.0) or 1.0
    )
    below.set_xlabel(f"times as fast as the float artifact at batch {batch} (dotted: equally fast)", color=INK)
    handles, names = above.get_legend_handles_labels()
    figure.legend(handles, names, loc="outside lower center", ncols=4, frameon=False, fontsize=11)
    write_figure(figure, path)


def _draw_points(axes, ladder: list[Point], ends: Point | None, final: Point | None, amount) -> None:
    places = [(point.speed.value, amount(point)) for point in ladder]
    if places:
        axes.plot(
            *zip(*places),
            color=ARTIFACT,
            marker="o",
            linewidth=1.6,
            label="by measured damage and time (number kept in float)",
        )
    for point, place in zip(ladder, places):
        axes.annotate(str(len(point.kept)), place, xytext=(6, 6), textcoords="offset points", fontsize=10, color=INK)
    if ends is not None:
        axes.plot(
            [ends.speed.value],
            [amount(ends)],
            color=RECORDED,
            marker="s",
            markersize=9,
            linestyle="",
            label="first and last layer kept in float",
        )
    if final is not None and final.speed:
        axes.plot(
            [final.speed.value],
            [amount(final)],
            marker="o",
            markersize=16,
            markerfacecolor="none",
            markeredgecolor=INK,
            markeredgewidth=1.8,
            linestyle="",
            label="taken",
        )
