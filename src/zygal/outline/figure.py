"""The outline of a network: its parts from top to bottom, with shapes, parameters and multiply-adds."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from zygal.canvas import ARTIFACT, FAINT, INK, RECORDED, new_figure, write_figure
from zygal.outline.outline import Outline, Part, operators_in_words
from zygal.wording import counted

ROW_PIXELS, HEAD_PIXELS, WIDTH_PIXELS = 25, 110, 1280
_NAME, _WHAT, _SHAPE, _BARS, _BAR_WIDTH, _GAP = 0.05, 0.27, 0.575, 0.672, 0.085, 0.085
_BRACKET = 0.017
_STAGES = ("#ffffff", "#f1f4f6")


@dataclass(frozen=True)
class _Row:
    part: Part
    level: int
    times: int


@dataclass(frozen=True)
class _Bracket:
    """first, last: rows that are repeated together."""

    first: int
    last: int
    level: int
    repeat: int


def draw_network(outline: Outline, title: str, path: str | Path) -> None:
    """Writes it as PNG or SVG. Raises OutputError."""
    rows: list[_Row] = []
    brackets: list[_Bracket] = []
    _lay_out(outline.parts, 0, 1, rows, brackets)
    figure = new_figure(WIDTH_PIXELS, max(360, HEAD_PIXELS + ROW_PIXELS * (len(rows) + 1)))
    figure.set_layout_engine("none")
    height = figure.get_figheight() * 100
    axes = figure.add_axes((0, 0, 1, 1))
    axes.set_xlim(0, 1)
    axes.set_ylim(height, 0)
    axes.axis("off")
    axes.text(0.015, 28, title, fontsize=13, color=INK, fontweight="bold", va="center")
    axes.text(
        0.015,
        52,
        f"{counted(outline.layers, 'layer')}, {counted(outline.nodes, 'operator')}, {_short(outline.parameters)} "
        f"parameters, {_short(outline.multiply_adds)} multiply-adds per image; an image is "
        f"{_sizes(outline.input_shape)}",
        fontsize=10,
        color=FAINT,
        va="center",
    )
    for place, name in (
        (_NAME, "part"),
        (_WHAT, "operators"),
        (_SHAPE, "result (C, H, W)"),
        (_BARS, "parameters"),
        (_BARS + _BAR_WIDTH + _GAP, "multiply-adds"),
    ):
        axes.text(place, HEAD_PIXELS - 22, name, fontsize=10, color=FAINT, va="center")
    _draw_stages(axes, rows)
    for number, row in enumerate(rows):
        _draw_row(axes, row, HEAD_PIXELS + ROW_PIXELS * number + ROW_PIXELS / 2, outline)
    deepest = max((bracket.level for bracket in brackets), default=0)
    for bracket in brackets:
        _draw_bracket(axes, bracket, 0.042 - _BRACKET * (deepest - bracket.level))
    write_figure(figure, path)


def _lay_out(parts: Sequence[Part], level: int, times: int, rows: list[_Row], brackets: list[_Bracket]) -> None:
    for part in parts:
        first = len(rows)
        if part.parts:
            _lay_out(part.parts, level + (part.repeat > 1), times * part.repeat, rows, brackets)
            if part.repeat > 1:
                brackets.append(_Bracket(first, len(rows) - 1, level, part.repeat))
        else:
            rows.append(_Row(part, level, times))


def _draw_stages(axes, rows: Sequence[_Row]) -> None:
    """A ground that changes where the images become smaller."""
    stage, before = 0, None
    for number, row in enumerate(rows):
        now = row.part.shape[-2:] if len(row.part.shape) == 3 else before
        if before is not None and now != before:
            stage += 1
        before = now
        top = HEAD_PIXELS + ROW_PIXELS * number
        axes.fill_between((0.01, 0.99), top, top + ROW_PIXELS, color=_STAGES[stage % 2], linewidth=0)


def _draw_row(axes, row: _Row, middle: float, outline: Outline) -> None:
    part = row.part
    name = part.name if not part.last_name else f"{part.name} to {_tail(part.last_name, part.name)}"
    repeat = f"  x {part.repeat}" if part.repeat > 1 else ""
    axes.text(
        _NAME,
        middle,
        _cut(name, 30 - len(repeat)) + repeat,
        fontsize=10,
        color=INK,
        va="center",
        fontweight="bold" if repeat else "normal",
    )
    axes.text(_WHAT, middle, operators_in_words(part), fontsize=9, color=FAINT, va="center")
    axes.text(_SHAPE, middle, _sizes(part.shape), fontsize=9.5, color=INK, va="center")
    figures = ((part.parameters, outline.parameters, RECORDED), (part.multiply_adds, outline.multiply_adds, ARTIFACT))
    for index, (count, total, colour) in enumerate(figures):
        left = _BARS + index * (_BAR_WIDTH + _GAP)
        count *= row.times
        share = count / max(total, 1)
        axes.barh(middle, _BAR_WIDTH * share, ROW_PIXELS * 0.55, left=left, color=colour)
        if count:
            said = f"{_short(count)}" + (f"  {100 * share:.0f} %" if share >= 0.005 else "")
            axes.text(left + _BAR_WIDTH * share + 0.004, middle, said, fontsize=9, color=INK, va="center")


def _draw_bracket(axes, bracket: _Bracket, left: float) -> None:
    top, bottom = HEAD_PIXELS + ROW_PIXELS * bracket.first + 4, HEAD_PIXELS + ROW_PIXELS * (bracket.last + 1) - 4
    axes.plot((left + 0.004, left, left, left + 0.004), (top, top, bottom, bottom), color=ARTIFACT, linewidth=1.4)
    axes.text(
        left - 0.003,
        (top + bottom) / 2,
        f"x {bracket.repeat}",
        fontsize=9.5,
        color=ARTIFACT,
        fontweight="bold",
        va="center",
        ha="right",
        rotation=90 if bracket.last > bracket.first else 0,
    )


def _tail(last: str, first: str) -> str:
    """The end of a name behind what it shares with another, from the last separator on."""
    shared = 0
    while shared < min(len(last), len(first)) and last[shared] == first[shared]:
        shared += 1
    start = max((place + 1 for place, letter in enumerate(last[:shared]) if letter in "./_"), default=0)
    return last[start:]


def _cut(text: str, most: int) -> str:
    return text if len(text) <= most else f"...{text[3 - most :]}"


def _sizes(shape: Sequence[int]) -> str:
    return " x ".join(map(str, shape)) or "one number"


def _short(count: int) -> str:
    for unit, factor in (("G", 1e9), ("M", 1e6), ("k", 1e3)):
        if count >= factor:
            return f"{count / factor:.3g} {unit}"
    return str(count)
