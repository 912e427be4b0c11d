"""Numbers as text, the same on the terminal, in figures and in messages."""

from __future__ import annotations


def percent(share: float | None) -> str:
    """A share of one with one decimal; a share that is nearly none or nearly all is not rounded to it."""
    if share is None:
        return "-"
    if 0 < share < 0.0005 or 0.9995 < share < 1:
        return "< 0.1 %" if share < 0.5 else "> 99.9 %"
    return f"{100 * share:.1f} %"


def rough_percent(share: float) -> str:
    """A share of any size: one decimal below 10 %, none above."""
    value = 100 * share
    return f"{value:.1f} %" if abs(value) < 9.95 else f"{value:.0f} %"


def points(share: float, signed: bool = True) -> str:
    """A difference of two shares in percentage points."""
    return f"{100 * share:{'+' if signed else ''}.2f}"


def file_size(size: int) -> str:
    """Bytes in decimal units."""
    for unit, factor in (("GB", 1e9), ("MB", 1e6), ("kB", 1e3)):
        if size >= factor:
            return f"{size / factor:.1f} {unit}"
    return counted(size, "byte")


def milliseconds(seconds: float | None) -> str:
    """Three or four significant digits, without the unit, for a column of a table."""
    if seconds is None:
        return "-"
    value = seconds * 1e3
    if value == 0:
        return "0"
    return f"{value:.3f}" if value < 10 else f"{value:.1f}" if value < 1000 else f"{value:.0f}"


def duration(seconds: float) -> str:
    """A time with the unit that suits it."""
    if seconds < 1:
        return f"{milliseconds(seconds)} ms"
    if seconds < 120:
        return f"{seconds:.1f} s"
    minutes, rest = divmod(round(seconds), 60)
    hours, minutes = divmod(minutes, 60)
    if hours >= 72:
        return f"{hours // 24} d {hours % 24} h"
    return f"{hours} h {minutes} min" if hours else f"{minutes} min {rest} s"


def rate(images_per_second: float) -> str:
    """Images per second, without the unit."""
    return f"{images_per_second:.0f}" if images_per_second >= 100 else f"{images_per_second:.1f}"


def grouped(number: int) -> str:
    """A whole number with its digits in groups of three."""
    return f"{number:,}".replace(",", " ")


def counted(number: int, noun: str) -> str:
    """A number with its noun: "1 image", "2 images", "2 classes"."""
    return f"{grouped(number)} {plural(noun, number)}"


def plural(noun: str, number: int) -> str:
    """A noun in its number."""
    return noun if number == 1 else noun + ("es" if noun.endswith("s") else "s")


def short_number(value: float) -> str:
    """Three significant digits; an exponent only where plain digits would be long."""
    if abs(value) >= 1000:
        return f"{value:.0f}"
    return f"{value:.3g}" if value == 0 or abs(value) >= 1e-4 else f"{value:.1e}"


def clean_sentence(text: str) -> str:
    """The text with one full stop at its end."""
    return text.rstrip(". ") + "."


RELEASE = "release"
"""The unit of releases of a library, which are compared as numbers: the major one and a thousandth of the minor one."""


def release_number(text: str) -> float:
    """A release like "1.16" or "1.16.3" as such a number."""
    major, minor = (int(each) for each in (*text.split("."), "0")[:2])
    return major + minor / 1000


def amount(value: float, unit: str, with_unit: bool = True) -> str:
    """A measured figure or a limit as it is shown. Shares are per cent."""
    if unit == "share":
        return percent(value)
    if unit == RELEASE:
        return f"{int(value)}.{round(value % 1 * 1000)}"
    return f"{short_number(value)} {unit}".strip() if with_unit else short_number(value)
