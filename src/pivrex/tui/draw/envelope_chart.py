"""The speed envelope with the present motion in it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from pivrex.tui.draw.picture import Areas, Dots, Picture

__all__ = ["EnvelopeData", "draw_envelope"]

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class EnvelopeData:
    """What the drawing shows, as (up, to the left).

    Attributes
    ----------
    full : (N, 2) float64
        The edge with nothing else asked for.
    now : (N, 2) float64
        The edge that the present turn leaves.
    ghost : (N, 2) float64 or None
        The edge before the last change.
    commanded, measured : (2,) float64 or None
        The present motion.
    tops : (2,) float64
        What the drawing's upper and left edge mean.
    units : tuple of str
        Of up and left.
    names : tuple of str
        Top, left, right.
    caption : str
    """

    full: Floats
    now: Floats
    ghost: Floats | None
    commanded: Floats | None
    measured: Floats | None
    tops: Floats
    units: tuple[str, str]
    names: tuple[str, str, str]
    caption: str


def _lay_reach(
    picture: Picture,
    edges: list[tuple[Floats, str]],
    at: Callable[[Floats], tuple[Floats, Floats]],
    place: tuple[int, int, int, int],
) -> None:
    """Lay what can be reached, and draw the axes over it."""
    left, top, w, h = place
    areas = Areas(w, h)
    (cx,), (cy,) = at(np.zeros((1, 2)))
    for points, named in edges:
        mask = areas.layer(named)
        if len(points):
            x, y = at(points)
            for k in range(len(points)):  # a fan from the middle: where it can go, seen from there
                areas.convex(mask, np.array([cx, x[k], x[k - 1]]), np.array([cy, y[k], y[k - 1]]))
    areas.onto(picture, left, top)
    row, column = top + int(cy + 0.5) // 4, left + int(cx + 0.5) // 2
    picture.across(row, left, left + w)
    picture.down(column, top, top + h)
    picture.text(column, row, "┼", "frame")


def draw_envelope(data: EnvelopeData, width: int, height: int) -> Picture:
    """Draw it on ``width`` × ``height`` cells; needs 16 × 7 to be of use."""
    picture = Picture(width, height)
    picture.text(0, 0, "speed envelope", "title")
    h = min(height - 3, (width - 8) // 2)
    w = min(h * 2, width - 8)
    if h < 4:
        return picture
    left, top = max(6, (width - w) // 2), 1
    dots = Dots(w, h)
    middle = ((dots.width - 1) / 2, (dots.height - 1) / 2)
    tops = np.maximum(data.tops, 1e-9)

    def at(points: Floats) -> tuple[Floats, Floats]:
        return middle[0] * (1 - points[:, 1] / tops[1]), middle[1] * (1 - points[:, 0] / tops[0])

    _lay_reach(picture, [(data.full, "floor"), (data.now, "hull")], at, (left, top, w, h))
    if data.ghost is not None and len(data.ghost):
        dots.path(dots.layer("ghost"), *at(data.ghost), every=3)
    if len(data.full):
        dots.path(dots.layer("rest"), *at(data.full))
    if len(data.now):
        dots.path(dots.layer("target"), *at(data.now), every=2)
    dots.onto(picture, left, top)
    for point, sign, named in ((data.measured, "○", "measured"), (data.commanded, "●", "commanded")):
        if point is not None and np.isfinite(point).all():
            px, py = (float(v[0]) for v in at(np.clip(point, -tops, tops)[None]))
            picture.text(left + int((px + 0.5) / 2), top + int((py + 0.5) / 4), sign, named)
    picture.right(left - 1, top, data.names[0], "dim")
    picture.right(left - 1, top + 1, f"{tops[0]:.2f}", "dim")
    picture.right(left - 1, top + 2, data.units[0], "dim")
    picture.text(left, top + h, data.names[1], "dim")
    picture.right(left + w, top + h, data.names[2], "dim")
    across = f"±{tops[1]:.{2 if tops[1] < 10 else 0}f} {data.units[1]}"
    caption = data.caption
    if len(across) + len(data.names[1]) + len(data.names[2]) + 2 <= w:
        picture.text(left + (w - len(across)) // 2, top + h, across, "dim")
    else:
        caption = f"{caption}, {across}"
    picture.text(max(0, min(left, width - len(caption))), top + h + 1, caption, "dim", width)
    return picture
