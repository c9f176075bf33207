"""The stick's gate: where the stick is and where shaping puts it, with the dead band's outline."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from pivrex.tui.draw.parts import wrapped
from pivrex.tui.draw.picture import Areas, Dots, Picture

__all__ = ["GateData", "draw_gate", "outline"]

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class GateData:
    """What a gate drawing needs: points as (across, up), right and away positive.

    Attributes
    ----------
    raw, shaped : (N, 2) float64
        The last positions, newest last.
    edge_across, edge_up : float
        The dead band's edges.
    measure : str
        "axis", "stick" or "sum".
    names : tuple of str
        What across and up are called.
    notes : tuple of (word, sentence)
        Written below where there is room.
    """

    raw: Floats
    shaped: Floats
    edge_across: float
    edge_up: float
    measure: str
    names: tuple[str, str]
    notes: tuple[tuple[str, str], ...] = ()


def outline(measure: str, edge_across: float, edge_up: float) -> tuple[Floats, Floats]:
    """Give the dead band's outline as x and y: a cross of two bands, an ellipse, or a diamond."""
    if measure == "stick":
        angle = np.linspace(0, 2 * np.pi, 80)
        return edge_across * np.cos(angle), edge_up * np.sin(angle)
    if measure == "sum":
        return edge_across * np.array([1.0, 0, -1, 0, 1]), edge_up * np.array([0.0, 1, 0, -1, 0])
    a, u = edge_across, edge_up
    nan = np.nan
    return (
        np.array([-a, -a, nan, a, a, nan, -1.0, 1.0, nan, -1.0, 1.0]),
        np.array([-1.0, 1.0, nan, -1.0, 1.0, nan, -u, -u, nan, u, u]),
    )


def _lay_band(picture: Picture, data: GateData, left: int, top: int, w: int, h: int) -> None:
    """Lay what counts for nothing: a cross of two bands, an ellipse, or a diamond."""
    areas = Areas(w, h)
    band = areas.layer("band")
    half_w, half_h = w - 0.5, 2 * h - 0.5
    a, u = data.edge_across, data.edge_up
    if data.measure == "axis":
        areas.box(band, half_w * (1 - a), 0, half_w * (1 + a) + 1, 4 * h)
        areas.box(band, 0, half_h * (1 - u), 2 * w, half_h * (1 + u) + 2)
    else:
        x, y = outline(data.measure, a, u)
        areas.convex(band, half_w * (1 + x), half_h * (1 - y))
    areas.onto(picture, left, top)


def draw_gate(data: GateData, width: int, height: int) -> Picture:  # noqa: C901 - a drawing, from the ground up
    """Draw the gate as a square as large as fits."""
    picture = Picture(width, height)
    picture.text(1, 0, "the stick's gate", "title")
    h = min(height - 3, (width - 4) // 2)
    w = h * 2
    if h < 4:
        return picture
    left, top = max(2, (width - w) // 2), 1
    dots = Dots(w, h)

    def across(x: Floats) -> Floats:
        return np.asarray((x + 1) / 2 * (dots.width - 1))

    def up(y: Floats) -> Floats:
        return np.asarray((1 - y) / 2 * (dots.height - 1))

    one = np.array([-1.0, 1.0, 1.0, -1.0, -1.0])
    grid = dots.layer("frame")
    dots.path(grid, across(one), up(np.array([-1.0, -1.0, 1.0, 1.0, -1.0])), every=3)
    angle = np.linspace(0, 2 * np.pi, 120)
    dots.path(grid, across(np.cos(angle)), up(np.sin(angle)), every=3)
    _lay_band(picture, data, left, top, w, h)
    ox, oy = outline(data.measure, data.edge_across, data.edge_up)
    band = dots.layer("target")
    for part in np.split(np.arange(len(ox)), np.flatnonzero(np.isnan(ox))):
        solid = part[~np.isnan(ox[part])]
        dots.path(band, across(ox[solid]), up(oy[solid]), every=2)
    if len(data.raw):
        dots.path(dots.layer("dim"), across(data.raw[:, 0]), up(data.raw[:, 1]), every=2)
        dots.path(dots.layer("measured"), across(data.shaped[:, 0]), up(data.shaped[:, 1]), every=2)
    dots.onto(picture, left, top)
    for points, sign, named in ((data.raw, "○", "rest"), (data.shaped, "●", "measured")):
        if len(points) and np.isfinite(points[-1]).all():
            px, py = np.clip(points[-1], -1, 1)
            picture.text(
                left + int((across(np.array(px)) + 0.5) / 2), top + int((up(np.array(py)) + 0.5) / 4), sign, named
            )
    caption = "○ stick  ● shaped" if width < 52 else f"○ stick  ● shaped   up {data.names[1]}, across {data.names[0]}"
    picture.text(max(1, min(left, width - len(caption) - 1)), top + h, caption, "dim", width - 2)
    row = top + h + 2
    for sign, text in data.notes:
        lines = wrapped(text, width - left - 10)
        if row + len(lines) <= height:
            picture.text(left, row, sign, "target")
            for line in lines:
                picture.text(left + 9, row, line, "dim")
                row += 1
    return picture
