"""Numbers in words, alike on the terminal and in figures."""

from __future__ import annotations


def percent(part: float | None) -> str:
    """A part of one with a digit behind the point; what is nearly none or nearly all is not rounded to it."""
    if part is None:
        return "-"
    if 0 < part < 0.0005 or 0.9995 < part < 1:
        return "< 0.1 %" if part < 0.5 else "> 99.9 %"
    return f"{100 * part:.1f} %"
