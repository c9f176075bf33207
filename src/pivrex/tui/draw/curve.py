"""A response curve: what the stick says across, what is asked for up, with the live point riding on it."""

from __future__ import annotations

from dataclasses import dataclass
from math import isfinite

import numpy as np
from numpy.typing import NDArray

from pivrex.tui.draw.picture import Areas, Dots, Picture

__all__ = ["CurveData", "draw_curve", "draw_ground", "draw_live"]

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class CurveData:
    """What a curve drawing needs.

    Attributes
    ----------
    title : str
    x, y : (N,) float64
        The response, in fractions.
    ghost : (N,) float64 or None
        The response before the last change.
    edge : float
        The dead band's edge.
    live : (float, float, float) or None
        The stick's fraction, where the curve takes it, and where the rate limit lets it be now.
    full : str
        What 1 means, such as "0.65 m/s".
    one_sided : bool
        For triggers: only the right half.
    ends : tuple of str
        What the left and right end of the drawing are called.
    heights : tuple of str
        What is asked for at its lower and upper edge.
    mirrored : bool
        Whether + is drawn to the left and down: a turn, where left is +, so that a stick pushed right moves right.
    """

    title: str
    x: Floats
    y: Floats
    ghost: Floats | None
    edge: float
    live: tuple[float, float, float] | None
    full: str
    one_sided: bool = False
    ends: tuple[str, str] = ("near", "away")
    heights: tuple[str, str] = ("back", "ahead")
    mirrored: bool = False


def draw_curve(data: CurveData, width: int, height: int) -> Picture:
    """Draw a response curve on ``width`` × ``height`` cells; needs 16 × 7 to be of use."""
    return draw_live(draw_ground(data, width, height), data)


def draw_ground(data: CurveData, width: int, height: int) -> Picture:
    """Draw what stays until the response changes: all but the live points."""
    picture = Picture(width, height)
    at = picture.text(1, 0, data.title, "title")
    legend, full = "○ asked ● now", f"1 = {data.full}"
    if at + len(legend) + len(full) + 5 <= width:
        picture.text(at + 2, 0, legend, "dim")
    if width < 16 or height < 7:
        return picture
    left, top, w, h = 8, 1, width - 10, height - 3
    dots = Dots(w, h)
    low = 0.0 if data.one_sided else -1.0
    sign = -1.0 if data.mirrored else 1.0

    def across(x: Floats) -> Floats:
        return np.asarray((sign * x - low) / (1 - low) * (dots.width - 1))

    def up(y: Floats) -> Floats:
        return np.asarray((1 - sign * y) / (1 - low) * (dots.height - 1))

    areas = Areas(w, h)
    edges = across(np.array([0.0 if data.one_sided else -data.edge, data.edge]))
    areas.box(areas.layer("band"), float(edges.min()), 0.0, float(edges.max()) + 1, float(dots.height))
    if data.ghost is not None and not np.array_equal(data.ghost, data.y):
        order = np.argsort(across(data.x))
        areas.between(areas.layer("gap"), across(data.x)[order], up(data.y)[order] + 0.5, up(data.ghost)[order] + 0.5)
    areas.onto(picture, left, top)
    row, column = (int(float(v[0]) + 0.5) for v in (up(np.zeros(1)), across(np.zeros(1))))
    picture.across(top + row // 4, left, left + w)
    picture.down(left + column // 2, top, top + h)
    picture.text(left + column // 2, top + row // 4, "├" if data.one_sided else "┼", "frame")
    if data.ghost is not None and not np.array_equal(data.ghost, data.y):
        dots.path(dots.layer("ghost"), across(data.x), up(data.ghost), every=3)
    dots.path(dots.layer("commanded"), across(data.x), up(data.y))
    dots.onto(picture, left, top)

    picture.right(left - 1, top, data.heights[1], "dim")
    picture.right(left - 1, top + 1, "1", "dim")
    if data.one_sided:
        picture.right(left - 1, top + h - 1, "0", "dim")
    else:
        picture.right(left - 1, top + h // 2, "0", "dim")
        picture.right(left - 1, top + h - 2, "1", "dim")
        picture.right(left - 1, top + h - 1, data.heights[0], "dim")
    if at + len(full) + 2 <= width:
        picture.right(width - 1, 0, full, "dim")
    edge = f"edge {'' if data.one_sided else '±'}{data.edge * 100:.0f} %"
    picture.text(left + (w - len(edge)) // 2, top + h, edge, "target")
    if sum(map(len, data.ends)) + len(edge) + 4 <= w:
        picture.text(left, top + h, data.ends[0], "dim")
        picture.right(left + w, top + h, data.ends[1], "dim")
    return picture


def draw_live(ground: Picture, data: CurveData) -> Picture:
    """Draw the live points onto a copy of the ground: ○ what the stick asks for, ● what the rate limit lets be now."""
    picture = Picture(ground.width, ground.height)
    picture.place(ground, 0, 0)
    if data.live is None or ground.width < 16 or ground.height < 7:
        return picture
    # the cell that holds the dot, so that a point at 0 sits on the axis
    low, sign = (0.0 if data.one_sided else -1.0), (-1.0 if data.mirrored else 1.0)
    w, h = (ground.width - 10) * 2, (ground.height - 3) * 4
    stick, there, now = (max(low, min(1.0, v)) if isfinite(v) else 0.0 for v in data.live)
    x = 8 + int(((sign * stick - low) / (1 - low) * (w - 1) + 0.5) / 2)
    for value, mark, named in ((there, "○", "commanded"), (now, "●", "measured")):
        picture.text(x, 1 + int(((1 - sign * value) / (1 - low) * (h - 1) + 0.5) / 4), mark, named)
    return picture
