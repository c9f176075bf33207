"""Lines over time: several in one drawing, each with the role that says what it is."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from pivrex.tui.draw.picture import Areas, Dots, Picture

__all__ = ["Series", "draw_lines", "span_of"]

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Series:
    """A line: what it is called, its values, its role, and every how many dots it has one."""

    name: str
    values: Floats
    role: str
    every: int = 1


def span_of(series: Sequence[Series], least: float) -> tuple[float, float]:
    """Give a range that holds all values and 0, at least ``least`` to both sides of nothing, with a little room."""
    values = np.concatenate([[0.0], *(s.values[np.isfinite(s.values)] for s in series)])
    low, high = float(values.min()), float(values.max())
    if high - low < least:
        middle = (high + low) / 2
        low, high = middle - least / 2, middle + least / 2
    room = (high - low) * 0.06
    return low - room, high + room


def draw_lines(
    title: str,
    t: Floats,
    series: Sequence[Series],
    span: tuple[float, float],
    unit: str,
    width: int,
    height: int,
    ends: tuple[str, str] = ("", ""),
    gap: tuple[str, str] = ("", ""),
) -> Picture:
    """Draw lines over ``t``, first at the left edge and last at the right.

    Parameters
    ----------
    title : str
    t : (N,) float64
        Rising.
    series : sequence of Series
        The last one lies on top.
    span : (float, float)
        The values at the lower and the upper edge.
    unit : str
        Of the values.
    width, height : int
        In cells, title and scale included.
    ends : (str, str)
        What stands under the left and the right end.
    gap : (str, str)
        The roles of two lines between which an area lies: what was wanted and what came.
    """
    picture = Picture(width, height)
    at = picture.text(1, 0, title, "title")
    named = [s for s in series if s.name]
    for one in reversed(named):  # what lies on top is named first
        sign = {1: "━", 2: "╍"}.get(one.every, "┄")
        if at + len(one.name) + 5 <= width - len(unit) - 2:
            at = picture.text(at + 2, 0, f"{sign} {one.name}", one.role)
    picture.right(width - 1, 0, unit, "dim")
    left, w, h = 9, width - 10, height - 2
    if w < 8 or h < 2:
        return picture
    low, high = span
    dots = Dots(w, h)

    def up(values: Floats) -> Floats:
        return np.asarray((high - np.clip(values, low, high)) / (high - low) * (dots.height - 1))

    marks = _marks(low, high, max(2, h // 3))
    _lay_gap(picture, dots, t, series, gap, up, left)
    _plot(picture, dots, t, series, marks, up, left)
    used: set[int] = set()
    for mark in marks:
        row = 1 + int(float(up(np.array([mark]))[0]) / 4)
        if row not in used:
            used.add(row)
            picture.right(left - 1, row, f"{mark:g}".replace("-", "−"), "dim")
    picture.text(left, height - 1, ends[0], "dim")
    picture.right(left + w, height - 1, ends[1], "dim")
    return picture


def _lay_gap(
    picture: Picture,
    dots: Dots,
    t: Floats,
    series: Sequence[Series],
    gap: tuple[str, str],
    up: Callable[[Floats], Floats],
    left: int,
) -> None:
    pair = [next((s.values for s in reversed(series) if s.role == role), None) for role in gap]
    if pair[0] is None or pair[1] is None or len(t) < 2:
        return
    known = np.isfinite(pair[0] + pair[1])
    x = (t - t[0]) / (t[-1] - t[0]) * (dots.width - 1)
    areas = Areas(*dots.cells)
    areas.between(areas.layer("gap"), x[known], up(pair[0][known]) + 0.5, up(pair[1][known]) + 0.5)
    areas.onto(picture, left, 1)


def _plot(
    picture: Picture,
    dots: Dots,
    t: Floats,
    series: Sequence[Series],
    marks: Sequence[float],
    up: Callable[[Floats], Floats],
    left: int,
) -> None:
    grid = dots.layer("frame")
    for mark in marks:
        place = np.repeat(up(np.array([mark])), 2)
        dots.path(grid, np.array([0.0, dots.width - 1]), place, every=1 if mark == 0 else 4)
    if len(t) > 1:
        x = (t - t[0]) / (t[-1] - t[0]) * (dots.width - 1)
        for one in series:
            for part in _runs(np.isfinite(one.values)):
                dots.path(dots.layer(one.role), x[part], up(one.values[part]), every=one.every)
    dots.onto(picture, left, 1)


def _runs(known: NDArray[np.bool_]) -> list[slice]:
    """Give the stretches in which values are known."""
    edges = np.flatnonzero(np.diff(np.concatenate(([False], known, [False])).astype(int)))
    return [slice(int(a), int(b)) for a, b in edges.reshape(-1, 2)]


def _marks(low: float, high: float, most: int) -> list[float]:
    """Give round values between two, 0 among them if it lies there, not more than ``most`` of them by much, and never one alone:
    that would say nothing of the scale.
    """
    raw = (high - low) / max(1, most)
    power = 10.0 ** np.floor(np.log10(raw))
    coarsest = next((k for k, m in enumerate((1, 2, 5, 10)) if m * power >= raw), 3)
    for share in (10, 5, 2, 1, 0.5, 0.2)[3 - coarsest :]:
        step = share * power
        first = int(np.ceil(low / step))
        marks = [round(k * step, 10) + 0.0 for k in range(first, int(np.floor(high / step)) + 1)]
        if len(marks) > 1:
            break
    return marks
