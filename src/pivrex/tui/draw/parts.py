"""Small instruments that several views share: bars, sliders, numbers that keep their column."""

from __future__ import annotations

import textwrap
from math import isfinite, pi

from pivrex.rig.rig import Rig
from pivrex.tui.draw.picture import Picture

__all__ = ["RPM", "centred_bar", "commanded_and_achieved", "number", "slider", "speed_of", "turning", "wrapped"]


def number(value: float, digits: int = 2, width: int = 6) -> str:
    """Write a number so that it keeps its column: sign, fixed digits, right-aligned."""
    if not isfinite(value):
        return "–".rjust(width)
    if abs(value) < 0.5 * 10**-digits:
        return f"{0:.{digits}f}".rjust(width)
    return f"{value:+.{digits}f}".replace("-", "−").rjust(width)


RPM = 30 / pi
"""Turns a minute for each rad/s."""


def speed_of(rig: Rig, value: float) -> str:
    """Write the speed of a wheel, in m/s; on a bench that of a motor, in rad/s, as rpm."""
    return f"{number(value * RPM, 0)} rpm" if rig.is_bench else f"{number(value)} m/s"


def turning(value: float, digits: int, unit: str, width: int = 0, steady: bool = False) -> str:
    """Write a turn in words instead of a sign: "12 deg/s left"; ``steady`` keeps room for the word where there is none."""
    size = f"{abs(value):.{digits}f}" if isfinite(value) else "–"
    way = "" if not isfinite(value) or float(size) == 0 else " left" if value > 0 else " right"
    way = way.ljust(6) if steady else way
    return f"{size.rjust(width)}{' ' + unit if unit else ''}{way}"


NARROWEST = 12
"""No text is wrapped to less: what is cut then is a window that shows nothing anyway."""


def wrapped(text: str, width: int) -> list[str]:
    """Break a sentence into lines of a width, however small a view is."""
    return textwrap.wrap(text, max(NARROWEST, width))


def centred_bar(picture: Picture, x: int, y: int, width: int, fraction: float, named: str) -> None:
    """Draw a bar from the middle: right for +, left for -, with a rule behind it. ``width`` is odd."""
    half = width // 2
    picture.across(y, x, x + width, "╌", "frame")
    picture.text(x + half, y, "│", "frame")
    fraction = max(-1.0, min(1.0, fraction)) if isfinite(fraction) else 0.0
    cells = round(abs(fraction) * half)
    if cells:
        start = x + half + 1 if fraction > 0 else x + half - cells
        picture.text(start, y, "━" * cells, named)
    elif fraction:
        picture.text(x + half, y, "┃", named)


def commanded_and_achieved(picture: Picture, x: int, y: int, width: int, commanded: float, done: float) -> None:
    """Draw two bars from the middle in one row: the commanded one in its upper half, the measured one in its lower half."""
    half = width // 2
    picture.across(y, x, x + width, "╌", "frame")
    ends = [round(max(-1.0, min(1.0, v)) * half) if isfinite(v) else 0 for v in (commanded, done)]
    for way in (1, -1):
        upper, lower = (max(0, way * end) for end in ends)
        both, longer = min(upper, lower), max(upper, lower)
        left = x + half + 1 if way > 0 else x + half - longer
        rest, named = ("▀", "commanded") if upper > lower else ("▄", "measured")
        picture.text(left, y, rest * longer, named)
        inner = left if way > 0 else x + half - both
        picture.text(inner, y, "▀" * both, "commanded")
        picture.fill(inner, y, both, "measured")
    picture.text(x + half, y, "┃", "frame")


def slider(picture: Picture, x: int, y: int, width: int, share: float, named: str) -> None:
    """Draw a value between its bounds: filled up to it, a knob where it stands."""
    at = round(max(0.0, min(1.0, share)) * (width - 1))
    picture.across(y, x, x + width, "╌", "frame")
    picture.text(x, y, "━" * at, named)
    picture.text(x + at, y, "◆", named)
