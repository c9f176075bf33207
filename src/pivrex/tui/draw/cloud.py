"""Where a robot ended in many drives, from near: the points, their scatter as an ellipse, and the zone that it shall reach."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from pivrex.rig.field import Zone
from pivrex.tui.draw.ellipse import ellipse
from pivrex.tui.draw.picture import Dots, Picture

__all__ = ["draw_cloud"]

Floats = NDArray[np.float64]

LEAST_M, FAR_M = 0.08, 0.3
"""Half of the window at least; a zone that would need more than that and three times the cloud is left out."""


def _half(poses: Floats, zone: Zone | None) -> float:
    """Give half of the window's height in m: all but the farthest two in a hundred lie within, and a zone that is not far away."""
    off = np.abs(poses[:, :2] - poses[:, :2].mean(axis=0)).max(axis=1)
    half = float(np.quantile(off, 0.98)) * 1.15
    if zone is not None:
        mx, my = poses[:, :2].mean(axis=0)
        needed = zone.radius_m * 1.1 + max(abs(zone.x_m - mx), abs(zone.y_m - my))
        half = max(half, needed) if needed < max(3 * half, FAR_M) else half
    return max(half, LEAST_M)


def draw_cloud(poses: Floats, zone: Zone | None, width: int, height: int) -> Picture:
    """Draw end poses, (N, 3), in a window round their mean.

    Notes
    -----
    The ellipse is that of two sigma of a normal distribution with their covariance: 86 of 100 would lie within.
    """
    picture = Picture(width, height)
    w, h = width - 2, height - 2
    if w < 8 or h < 3:
        return picture
    picture.text(0, 0, "╭" + "─" * w + "╮", "frame")
    picture.text(0, h + 1, "╰" + "─" * w + "╯", "frame")
    if zone is not None:
        picture.text(2, 0, f" {zone.name} ", "dim", w - 2)
    picture.down(0, 1, h + 1)
    picture.down(w + 1, 1, h + 1)
    half = _half(poses, zone)
    per_m = min(h * 4, w * 2) / (2 * half)
    middle = poses[:, :2].mean(axis=0)
    dots = Dots(w, h)

    def x(of: Floats) -> Floats:
        return w + (np.asarray(of) - middle[0]) * per_m

    def y(of: Floats) -> Floats:
        return h * 2 - (np.asarray(of) - middle[1]) * per_m

    angle = np.linspace(0, 2 * np.pi, 90)
    if zone is not None:
        ring = dots.layer("frame")
        dots.path(ring, x(zone.x_m + zone.radius_m * np.cos(angle)), y(zone.y_m + zone.radius_m * np.sin(angle)))
    dots.points(dots.layer("target"), x(poses[:, 0]), y(poses[:, 1]))
    if len(poses) > 2:
        outline = ellipse(np.cov(poses[:, :2], rowvar=False))
        dots.path(dots.layer("rest"), x(middle[0] + outline[0]), y(middle[1] + outline[1]), every=2)
    dots.onto(picture, 1, 1)
    # how long something is: a bar of a round length
    bar = next(b for b in (0.5, 0.2, 0.1, 0.05, 0.02, 0.01, 0.0) if b * per_m / 2 <= w / 3)
    if bar:
        cells = max(1, round(bar * per_m / 2))
        said = f" {bar * 100:g} cm "
        picture.text(2, h + 1, "├" + "─" * max(0, cells - 2) + "┤" + said, "dim", w - 2)
    return picture
