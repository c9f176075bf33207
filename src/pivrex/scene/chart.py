"""Charts: lines over time or over any other quantity, areas between two lines, and the numbers of both axes."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from pivrex.scene.scene import Box, Margins, Scene

__all__ = ["Series", "between", "chart", "number_text", "span_of", "ticks"]

Floats = NDArray[np.float64]

NUMBERS = 8
"""Letters for the numbers at the left."""

EACH = 9
"""Letters for each number below."""

SIGNS = {0.0: "━", 0.9: "╍"}


@dataclass(frozen=True)
class Series:
    """A line: what it is called, its values, its role, and how long its dashes are in letters; 0 for a full line."""

    name: str
    values: Floats
    role: str
    dash: float = 0.0


def span_of(series: Sequence[Series], least: float) -> tuple[float, float]:
    """Return a range that holds all values and 0, at least ``least`` to both sides of nothing, with a little room."""
    values = np.concatenate([[0.0], *(s.values[np.isfinite(s.values)] for s in series)])
    low, high = float(values.min()), float(values.max())
    if high - low < least:
        middle = (high + low) / 2
        low, high = middle - least / 2, middle + least / 2
    room = (high - low) * 0.06
    return low - room, high + room


def chart(
    title: str,
    t: Floats,
    series: Sequence[Series],
    span: tuple[float, float],
    units: tuple[str, str],
    size: tuple[int, int],
    gap: tuple[str, str] = ("", ""),
    reach: tuple[float, float] | None = None,
    ends: tuple[str, str] = ("", ""),
) -> Scene:
    """Draw lines over ``t``.

    Parameters
    ----------
    title : str
    t : (N,) float64
        Rising.
    series : sequence of Series
        The last one lies on top.
    span : (float, float)
        The values at the lower and the upper edge.
    units : (str, str)
        Of the values, and of ``t``.
    size : (int, int)
        Letters and lines that it has, for how many numbers have room.
    gap : (str, str)
        The roles of two lines between which an area lies: what was wanted and what came.
    reach : (float, float), optional
        What the left and the right edge are; else the first and the last of ``t``.
    ends : (str, str)
        What stands at the left and right end below instead of numbers.
    """
    (low, high), (first, last) = span, reach or ((float(t[0]), float(t[-1])) if len(t) > 1 else (0.0, 1.0))
    last = last if last > first else first + 1.0
    # the top line is named first
    names = tuple((one.name, one.role, one.dash) for one in reversed(series) if one.name)
    below = _axes(title, names, (float(low), float(high)), (first, last), units, size, ends)
    scene = Scene(below.box, equal=False, margins=below.margins, below=below)
    pair = [next((s.values for s in reversed(series) if s.role == role), None) for role in gap]
    if pair[0] is not None and pair[1] is not None:
        # the area needs no more than two points a letter, and is costly to fill
        some = np.unique(np.linspace(0, len(t) - 1, min(len(t), 2 * size[0])).astype(int)) if len(t) else slice(None)
        between(scene, t[some], pair[0][some].clip(low, high), pair[1][some].clip(low, high), "gap")
    for one in series:
        if len(t) > 1:
            scene.line(np.stack((t, one.values.clip(low, high)), axis=1), one.role, 0.4, one.dash)
    return scene


@lru_cache(maxsize=64)
def _axes(
    title: str, names: tuple[tuple[str, str, float], ...], span: tuple[float, float], reach: tuple[float, float],
    units: tuple[str, str], size: tuple[int, int], ends: tuple[str, str],
) -> Scene:  # fmt: skip
    """Draw what stays while the lines move: the rules, the numbers of both axes, title and names."""
    (low, high), (first, last) = span, reach
    scene = Scene(Box(first, low, last, high), equal=False, margins=Margins(NUMBERS, 1, 1, 1))
    columns, rows = size[0] - NUMBERS - 1, size[1] - 2
    scene.caption(units[0], "dim", "top right")
    scene.caption(title, "title")
    for name, named, dash in names:
        scene.caption(f"{SIGNS.get(dash, '┄')} {name}", named)
    for mark in ticks(low, high, max(2, rows // 3)):
        scene.line([(first, mark), (last, mark)], "frame" if mark == 0 else "grid", 0.2)
        scene.label((first, mark), number_text(mark), "dim", 2.0 if mark == 0 else 1.0, "left")
    if any(ends):
        scene.caption(ends[0], "dim", "bottom")
        scene.caption(ends[1], "dim", "bottom right")
        return scene
    marks = ticks(first, last, max(2, columns // EACH))
    for mark in marks:
        scene.line([(mark, low), (mark, high)], "grid", 0.05)
        text = number_text(mark) + (f" {units[1]}" if units[1] and mark == marks[-1] else "")
        scene.label((mark, low), text, "dim", 1.0, "below-to" if mark == marks[-1] else "below-from")
    return scene


def between(scene: Scene, t: Floats, a: Floats, b: Floats, named: str) -> None:
    """Fill between two lines over the same rising ``t``, where both are known."""
    known = np.isfinite(a + b)
    edges = np.flatnonzero(np.diff(np.concatenate(([False], known, [False])).astype(np.int8)))
    for i, j in edges.reshape(-1, 2).tolist():
        if j - i > 1:
            there, back = np.stack((t[i:j], a[i:j]), axis=1), np.stack((t[i:j], b[i:j]), axis=1)[::-1]
            scene.area(np.concatenate((there, back)), named)


def number_text(value: float) -> str:
    """Write a number with a minus that is as wide as a plus."""
    return f"{value:g}".replace("-", "−")


def ticks(low: float, high: float, most: int) -> list[float]:
    """Return round values between two, 0 among them if it lies there, not more than ``most`` of them by much, and never one alone:
    that would say nothing of the scale.
    """
    raw = (high - low) / max(1, most)
    power = 10.0 ** np.floor(np.log10(raw))
    coarsest = next((k for k, m in enumerate((1, 2, 5, 10)) if m * power >= raw), 3)
    for share in (10, 5, 2, 1, 0.5, 0.2)[3 - coarsest :]:
        step = share * power
        first = int(np.ceil(low / step - 1e-9))
        marks = [round(k * step, 10) + 0.0 for k in range(first, int(np.floor(high / step + 1e-9)) + 1)]
        if len(marks) > 1:
            break
    return marks
