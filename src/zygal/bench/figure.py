"""The figures of a benchmark: throughput and latency over batch sizes, all runs, stages from image files, layers."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from zygal.bench.layers import LayerTimes
from zygal.bench.pipeline import Pipeline
from zygal.bench.result import Bench, Cell
from zygal.canvas import ARTIFACT, FAINT, INK, RECORDED, new_figure, write_figure

# Told apart by lightness and by their marks as well as by colour.
SERIES = (
    ("#b5541c", "o", "-"),
    ("#1f4e79", "s", "--"),
    ("#c8a13a", "^", "-."),
    ("#3f7f6f", "D", ":"),
    ("#7a6a8f", "v", "--"),
)
HATCHES = ("", "//", "..", "xx", "\\\\")
MOST_LAYERS = 22
FEW_BATCHES = 2
"""So few points do not make a line."""


def draw_grid(bench: Bench, path: str | Path) -> Path:
    """Images per second above, milliseconds per batch below, over batch sizes; one column per thread count."""
    threads = list(dict.fromkeys(cell.setting.threads for cell in bench.cells))
    figure = new_figure(1280, 800)
    _title(figure, f"{Path(bench.artifact).name}: median and 95 % CI")
    panels = figure.subplots(2, len(threads), squeeze=False, sharex=True, sharey="row")
    for column, count in enumerate(threads):
        above, below = panels[:, column]
        above.set_title(f"{count} thread{'s' * (count != 1)}", fontsize=12, color=INK)
        _draw_column(bench, count, above, below)
        below.set_xlabel("batch size (images)", color=INK)
        for axes in (above, below):
            _plain(axes)
    # Only now, when all columns that share an axis are drawn.
    for row in panels:
        row[0].set_ylim(bottom=0)
    panels[0, 0].set_ylabel("images/s", color=INK)
    panels[1, 0].set_ylabel("ms per batch", color=INK)
    handles, names = panels[0, 0].get_legend_handles_labels()
    if len(names) > 1:
        figure.legend(handles, names, loc="outside lower center", ncols=4, frameon=False, fontsize=10)
    write_figure(figure, path)
    return Path(path)


def _draw_column(bench: Bench, threads: int, above, below) -> None:
    """One thread count: lines over the batch sizes, or bars if there are only one or two of them."""
    batches = sorted({cell.setting.batch for cell in bench.cells})
    lines = _lines(bench, threads)
    bars = len(batches) <= FEW_BATCHES
    for index, (name, points) in enumerate(lines):
        colour, mark, dashes = SERIES[index % len(SERIES)]
        sizes, middle, low, high = (np.array(each) for each in zip(*points))
        rate = sizes / middle
        values = ((above, rate, sizes / high, sizes / low), (below, middle * 1e3, low * 1e3, high * 1e3))
        for axes, value, lower, upper in values:
            if bars:
                width = 0.7 / len(lines)
                x = np.searchsorted(batches, sizes) + (index - (len(lines) - 1) / 2) * width
                drawn = axes.bar(
                    x,
                    value,
                    width * 0.92,
                    yerr=[value - lower, upper - value],
                    capsize=5,
                    label=name,
                    color=colour,
                    hatch=HATCHES[index % len(HATCHES)],
                    edgecolor="white",
                    ecolor=INK,
                )
                axes.bar_label(
                    drawn, [f"{each:.3g}" if each < 1000 else f"{each:.0f}" for each in value], padding=4, fontsize=10
                )
                axes.margins(y=0.16)
            else:
                axes.errorbar(
                    sizes,
                    value,
                    [value - lower, upper - value],
                    color=colour,
                    marker=mark,
                    linestyle=dashes,
                    capsize=5,
                    linewidth=1.8,
                    label=name,
                )
    if bars:
        below.set_xticks(range(len(batches)), [str(batch) for batch in batches])
        return
    below.set_xscale("log", base=2)
    below.set_xticks(batches, [str(batch) for batch in batches])
    below.minorticks_off()


def _lines(bench: Bench, threads: int) -> list[tuple[str, list[tuple[float, float, float, float]]]]:
    """For each series its name and (batch, median, low, high) in seconds."""
    cells = [cell for cell in bench.cells if cell.setting.threads == threads]
    kinds = list(dict.fromkeys((cell.setting.level, cell.setting.execution) for cell in bench.cells))
    lines = []
    for level, execution in kinds:
        group = [cell for cell in cells if (cell.setting.level, cell.setting.execution) == (level, execution)]
        name = Path(bench.artifact).name + ("" if len(kinds) == 1 else f", {level}, {execution}")
        lines.append((name, [(c.setting.batch, c.latency.value, c.latency.low, c.latency.high) for c in group]))
        for other in bench.compared:
            known = [(c, other.ratios[c.setting]) for c in group if c.setting in other.ratios]
            points = [
                (c.setting.batch, *(c.latency.value * each for each in (r.value, r.low, r.high))) for c, r in known
            ]
            lines.append((Path(other.name).name, points))
    return [(name, sorted(points)) for name, points in lines if points]


def draw_latencies(bench: Bench, path: str | Path) -> Path:
    """Every run of every setting as a dot, the middle half as a bar, median and p99 as marks."""
    from matplotlib.ticker import LogLocator

    figure = new_figure(1280, 800)
    _title(figure, f"{Path(bench.artifact).name}: all runs")
    axes = figure.subplots()
    rng = np.random.default_rng(0)
    for row, cell in enumerate(bench.cells):
        _row_of_runs(axes, row, cell, rng)
    labels = [_label(cell) for cell in bench.cells]
    axes.set_yticks(range(len(labels)), labels, fontsize=11)
    axes.set_ylim(len(labels) - 0.4, -0.6)
    axes.set_xscale("log")
    axes.xaxis.set_major_locator(LogLocator(subs=(1, 2, 5)))
    axes.xaxis.set_major_formatter(lambda value, _: f"{value:g}")
    axes.set_xlabel("ms per batch", color=INK)
    _plain(axes, grid="x")
    handles, names = axes.get_legend_handles_labels()
    distinct = dict(zip(names, handles))
    figure.legend(distinct.values(), distinct.keys(), loc="outside lower center", ncols=4, frameon=False, fontsize=10)
    write_figure(figure, path)
    return Path(path)


def _row_of_runs(axes, row: int, cell: Cell, rng: np.random.Generator) -> None:
    milliseconds = cell.seconds * 1e3
    offsets = rng.uniform(-0.3, 0.3, len(milliseconds))
    axes.plot(milliseconds, row + offsets, ".", color=RECORDED, markersize=4, zorder=1, label="one run")
    low, high = cell.latency.quarter * 1e3, cell.latency.three_quarters * 1e3
    axes.plot(
        [low, high],
        [row, row],
        color=INK,
        linewidth=7,
        solid_capstyle="butt",
        zorder=2,
        label="middle half, cut at the median",
    )
    axes.plot(cell.latency.value * 1e3, row, "|", color="white", markersize=9, markeredgewidth=2.5, zorder=3)
    worst = cell.quantile(0.99)
    if worst is not None:
        axes.plot(worst * 1e3, row, "D", color=ARTIFACT, markersize=8, zorder=3, label="p99")


def _label(cell: Cell) -> str:
    setting = cell.setting
    kind = (
        "" if (setting.level, setting.execution) == ("all", "sequential") else f"\n{setting.level}, {setting.execution}"
    )
    return f"batch {setting.batch}, {setting.threads} thread{'s' * (setting.threads != 1)}{kind}"


def draw_stages(pipeline: Pipeline, path: str | Path) -> Path:
    """The stages from image files to scores as one bar, and the resulting rates."""
    figure = new_figure(1280, 560)
    _title(
        figure,
        f"From image files to scores, batch {pipeline.batch}, inference on {pipeline.threads} "
        f"thread{'s' * (pipeline.threads != 1)}",
    )
    above, below = figure.subplots(2, 1, height_ratios=(1, 1.5))
    start, whole = 0.0, sum(pipeline.stages.values()) * 1e3
    # Light and dark in turn, and hatched, so that neighbours differ in print too.
    looks = (("#1c3d5a", ""), ("#9cb8cc", "//"), ("#4d7a99", ".."), ("#b5541c", ""))
    for (stage, seconds), (colour, hatch) in zip(pipeline.stages.items(), looks[-len(pipeline.stages) :]):
        width = seconds * 1e3
        above.barh(
            0,
            width,
            left=start,
            color=colour,
            hatch=hatch,
            edgecolor="white",
            height=0.6,
            label=f"{stage}: {width:.3g} ms, {100 * pipeline.share(stage):.0f} %",
        )
        start += width
    above.set_xlim(0, whole)
    above.set_yticks([])
    above.set_xlabel("ms per image, one stage after the other", color=INK)
    above.legend(loc="upper center", bbox_to_anchor=(0.5, 1.42), ncols=4, frameon=False, fontsize=11)
    rates = {"sequential": pipeline.sequential}
    for count, rate in pipeline.overlapped.items():
        rates[f"overlapped, inference\non {count} thread{'s' * (count != 1)}"] = rate
    rates["inference alone"] = 1 / pipeline.stages["inference"]
    colours = [RECORDED, *[ARTIFACT] * len(pipeline.overlapped), "#e3d3c4"]
    below.barh(list(rates), list(rates.values()), color=colours, edgecolor=INK, height=0.55)
    for row, rate in enumerate(rates.values()):
        below.annotate(
            f"{rate:.0f}", (rate, row), (6, 0), textcoords="offset points", va="center", color=INK, fontsize=11
        )
    below.invert_yaxis()
    below.set_xlabel("images/s", color=INK)
    below.margins(x=0.08)
    for axes in (above, below):
        _plain(axes, grid="x")
    write_figure(figure, path)
    return Path(path)


def draw_layers(times: LayerTimes, bench: Bench, path: str | Path) -> Path:
    """The layers that take the most time: their share of it beside their share of the multiply-adds."""
    layers = times.layers[:MOST_LAYERS]
    figure = new_figure(1280, 800)
    setting = times.setting
    _title(
        figure,
        f"{Path(bench.artifact).name}: time by layer, batch {setting.batch} on "
        f"{setting.threads} thread{'s' * (setting.threads != 1)}",
    )
    axes = figure.subplots()
    rows, whole = np.arange(len(layers)), max(sum(layer.multiply_adds for layer in times.layers), 1)
    axes.barh(rows - 0.2, [100 * layer.share for layer in layers], 0.38, color=ARTIFACT, label="share of the time")
    axes.barh(
        rows + 0.2,
        [100 * layer.multiply_adds / whole for layer in layers],
        0.38,
        color="white",
        edgecolor=INK,
        hatch="///",
        label="share of the multiply-adds",
    )
    for row, layer in zip(rows, layers):
        axes.annotate(
            f"{layer.seconds * 1e3:.3g} ms",
            (100 * layer.share, row - 0.2),
            (5, 0),
            textcoords="offset points",
            va="center",
            fontsize=9,
            color=INK,
        )
    axes.set_yticks(rows, [layer.layer for layer in layers], fontsize=10)
    axes.invert_yaxis()
    axes.margins(x=0.08, y=0.01)
    axes.set_xlabel("share (%)", color=INK)
    rest = sum(layer.share for layer in times.layers[MOST_LAYERS:])
    if rest:
        axes.annotate(
            f"{len(times.layers) - MOST_LAYERS} more layers: {100 * rest:.0f} % of the time",
            (0.99, 0.1),
            xycoords="axes fraction",
            ha="right",
            color=FAINT,
            fontsize=11,
        )
    axes.legend(loc="lower right", frameon=False, fontsize=11)
    _plain(axes, grid="x")
    write_figure(figure, path)
    return Path(path)


def _title(figure, words: str) -> None:
    figure.suptitle(words, x=0.012, ha="left", fontsize=13, color=INK, fontweight="bold")


def _plain(axes, grid: str = "y") -> None:
    axes.grid(axis=grid, color="#dde3e7", linewidth=0.8)
    axes.set_axisbelow(True)
    axes.tick_params(colors=INK)
    for side in ("top", "right"):
        axes.spines[side].set_visible(False)
    for side in ("left", "bottom"):
        axes.spines[side].set_color(FAINT)
