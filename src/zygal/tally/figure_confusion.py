"""The confusion matrix, readable for two classes and for hundreds."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from zygal.canvas import ARTIFACT, FAINT, INK, new_figure, write_figure
from zygal.tally.accuracy import Accuracy

MOST_NAMED = 25
_LONGEST_NAME = 22


def draw_confusion(accuracy: Accuracy, title: str, path: str | Path) -> None:
    """Writes it as PNG. Up to 25 classes have names and counts; of more, the whole matrix is drawn without them, and
    next to it the classes that are confused most with names and counts. Raises OutputError."""
    names = [_short(each.name) for each in accuracy.classes]
    figure = new_figure(1280, 800)
    figure.suptitle(title, x=0.012, ha="left", fontsize=13, color=INK, fontweight="bold")
    if len(names) <= MOST_NAMED:
        shown = _draw_counts(figure.subplots(), accuracy.confusion, accuracy.confusion.sum(axis=1), names, "")
    else:
        whole, part = figure.subplots(1, 2, width_ratios=(1, 1.25))
        whole.set_anchor("N")
        part.set_anchor("N")
        shown = _draw_whole(whole, accuracy.confusion)
        chosen = _most_confused(accuracy)
        few, support = accuracy.confusion[np.ix_(chosen, chosen)], accuracy.confusion[chosen].sum(axis=1)
        _draw_counts(
            part, few, support, [names[position] for position in chosen], f"the {len(chosen)} most confused classes"
        )
    many = len(names) > MOST_NAMED
    figure.colorbar(
        shown,
        ax=figure.axes,
        label="share of the true class",
        shrink=0.4 if many else 0.6,
        location="bottom" if many else "right",
        format=lambda part, _: f"{part:.0%}",
    )
    write_figure(figure, path)


def _most_confused(accuracy: Accuracy) -> list[int]:
    """The classes of the most confused pairs, as many as can have names, in their own order."""
    positions = {each.name: position for position, each in enumerate(accuracy.classes)}
    chosen: list[int] = []
    for pair in accuracy.pairs:
        new = [positions[name] for name in (pair.true_class, pair.predicted) if positions[name] not in chosen]
        if len(chosen) + len(new) > MOST_NAMED - 5:
            break
        chosen += new
    return sorted(chosen) or list(range(MOST_NAMED - 5))


def _parts(confusion: np.ndarray, support: np.ndarray) -> np.ndarray:
    return confusion / np.maximum(support, 1)[:, None]


def _draw_counts(axes, confusion: np.ndarray, support: np.ndarray, names: list[str], title: str):
    """Cells with counts, coloured by the part of their class; support: how many images each class has in all."""
    parts = _parts(confusion, support)
    shown = axes.imshow(parts, cmap="Blues", vmin=0, vmax=1, interpolation="nearest")
    size = 11 if len(names) <= 12 else 8
    for row, column in np.argwhere(confusion):
        right = row == column
        colour = "white" if parts[row, column] > 0.5 else INK if right else ARTIFACT
        axes.text(
            column,
            row,
            f"{confusion[row, column]}",
            ha="center",
            va="center",
            fontsize=size,
            color=colour,
            fontweight="normal" if right else "bold",
        )
    ticks = range(len(names))
    axes.set_xticks(
        ticks,
        names,
        rotation=40 if len(names) > 3 else 0,
        ha="right" if len(names) > 3 else "center",
        rotation_mode="anchor",
        fontsize=size,
    )
    axes.set_yticks(ticks, [f"{name}  {total}" for name, total in zip(names, support)], fontsize=size)
    axes.set_xlabel("predicted class", fontsize=11, color=INK)
    axes.set_ylabel("true class (number of images)", fontsize=11, color=INK)
    axes.set_title(title, fontsize=11, color=INK, loc="left")
    _lattice(axes, len(names))
    return shown


def _lattice(axes, count: int) -> None:
    """Faint lines between the cells, so that an empty one can be followed to its names."""
    edges = np.arange(count + 1) - 0.5
    axes.set_xticks(edges, minor=True)
    axes.set_yticks(edges, minor=True)
    axes.grid(which="minor", color=FAINT, linewidth=0.3, alpha=0.5)
    axes.tick_params(which="both", length=0)


def _draw_whole(axes, confusion: np.ndarray):
    """Every class is a row; what is not on the diagonal is drawn as points, which one pixel in hundreds could not
    show."""
    parts = _parts(confusion, confusion.sum(axis=1))
    shown = axes.imshow(np.where(np.eye(len(parts), dtype=bool), parts, 0), cmap="Blues", vmin=0, vmax=1)
    wrong = parts.copy()
    np.fill_diagonal(wrong, 0)
    rows, columns = np.nonzero(wrong)
    axes.scatter(columns, rows, s=3 + 90 * wrong[rows, columns], c=ARTIFACT, alpha=0.75, linewidths=0)
    low = [float(parts[position, position]) for position in range(len(parts))]
    axes.plot(range(len(parts)), range(len(parts)), color=FAINT, linewidth=0.4)
    axes.set_title(
        f"all {len(parts)} classes; each point is a confused pair",
        fontsize=11,
        color=INK,
        loc="left",
    )
    axes.set_xlabel("predicted class (index)", fontsize=11, color=INK)
    axes.set_ylabel(f"true class (index); recall is {min(low):.0%} to {max(low):.0%}", fontsize=11, color=INK)
    return shown


def _short(name: str) -> str:
    return name if len(name) <= _LONGEST_NAME else f"{name[: _LONGEST_NAME - 3]}..."
