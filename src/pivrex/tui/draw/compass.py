"""A compass: where the robot points, where it shall, and where it really does."""

from __future__ import annotations

import numpy as np

from pivrex.tui.draw.picture import Dots, Picture

__all__ = ["draw_compass"]


def draw_compass(heading: float, target: float, true: float, width: int, height: int) -> Picture:
    """Draw headings in rad as seen from above, 0 up and left counter-clockwise; NaN for one that nobody knows.

    The target is a broken ray, what the gyro says a full one with a head; a mark on the rim shows what is true.
    """
    picture = Picture(width, height)
    dots = Dots(width, height)
    cx, cy = (dots.width - 1) / 2, (dots.height - 1) / 2
    radius = min(cx, cy) - 1
    if radius < 6:
        return picture
    around = np.linspace(0, 2 * np.pi, 120)
    dots.path(dots.layer("frame"), cx + radius * np.cos(around), cy - radius * np.sin(around), every=2)
    ticks = dots.layer("frame")
    for k in range(12):
        inner = radius * (0.82 if k % 3 == 0 else 0.92)
        a = k * np.pi / 6
        dots.path(ticks, np.array([cx - inner * np.sin(a), cx - radius * np.sin(a)]),
                  np.array([cy - inner * np.cos(a), cy - radius * np.cos(a)]))  # fmt: skip

    def ray(angle: float, start: float, end: float, role: str, every: int = 1, wide: int = 0) -> None:
        layer = dots.layer(role)
        x, y = -np.sin(angle), -np.cos(angle)
        for k in range(-wide, wide + 1):
            dots.path(
                layer,
                np.array([cx + start * x + k * y, cx + end * x + k * y]),
                np.array([cy + start * y - k * x, cy + end * y - k * x]),
                every,
            )

    if np.isfinite(true):
        ray(true, radius * 0.86, radius, "rest", wide=1)
    if np.isfinite(target):
        ray(target, 0, radius * 0.98, "target", 3)
    if np.isfinite(heading):
        ray(heading, -radius * 0.25, radius * 0.8, "measured", wide=1)
        tip = radius * 0.8
        head = dots.layer("measured")
        for side in (-0.35, 0.35):
            x, y = -np.sin(heading), -np.cos(heading)
            bx, by = -np.sin(heading + side), -np.cos(heading + side)
            dots.path(
                head, np.array([cx + tip * x, cx + tip * 0.72 * bx]), np.array([cy + tip * y, cy + tip * 0.72 * by])
            )
    dots.onto(picture, 0, 0)
    return picture
