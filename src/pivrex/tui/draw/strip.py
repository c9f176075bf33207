"""A strip of the last seconds: what was commanded and what was measured, over time."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from pivrex.tui.draw.picture import Areas, Dots, Picture

__all__ = ["draw_strip"]

Floats = NDArray[np.float64]


def draw_strip(
    title: str,
    t_s: Floats,
    commanded: Floats,
    measured: Floats,
    top: float,
    seconds: float,
    unit: str,
    width: int,
    height: int,
) -> Picture:
    """Draw two lines over the last ``seconds``, newest at the right; what lies between them is an area.

    Parameters
    ----------
    title : str
    t_s, commanded, measured : (N,) float64
        Times in s, rising, and values in ``unit``.
    top : float
        The value at the upper edge; the lower one is its negative.
    seconds : float
    unit : str
    width, height : int
        In cells, title and scale included.
    """
    picture = Picture(width, height)
    picture.text(0, 0, title, "title")
    left, w, h = 6, width - 7, height - 2
    if w < 8 or h < 2:
        return picture
    dots = Dots(w, h)
    middle = (dots.height - 1) / 2
    picture.across(1 + int(middle) // 4, left, left + w, "─", "frame")
    if len(t_s):
        x = (t_s - t_s[-1] + seconds) / seconds * (dots.width - 1)
        shown = x >= 0
        areas = Areas(w, h)
        asked, real = (middle * (1 - np.clip(v[shown], -top, top) / top) for v in (commanded, measured))
        fine = np.isfinite(asked + real)
        areas.between(areas.layer("gap"), x[shown][fine], asked[fine] + 0.5, real[fine] + 0.5)
        areas.onto(picture, left, 1)
        for values, named, every in ((measured, "measured", 2), (commanded, "commanded", 1)):
            y = middle * (1 - np.clip(values, -top, top) / top)
            dots.path(dots.layer(named), x[shown], y[shown], every=every)
    dots.onto(picture, left, 1)
    picture.right(left - 1, 1, f"{top:.1f}", "dim")
    picture.right(left - 1, 1 + h // 2, "0", "dim")
    picture.right(left - 1, h, f"−{top:.1f}", "dim")
    picture.text(left, height - 1, f"−{seconds:g} s", "dim")
    picture.right(left + w, height - 1, "now", "dim")
    picture.right(width - 1, 0, unit, "dim")
    return picture
