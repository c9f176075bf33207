"""Draws a scene as roles if the drawing library cannot be loaded: whole cells for areas, dots for lines."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np
from numpy.typing import NDArray

from pivrex.scene.marks import Area, Rim, Shape, role
from pivrex.tui.draw.fit import HIGH, WIDE

__all__ = ["draw_dots"]

EVERY = 3.0
"""Points from one dot of a line to the next."""

FAR = 4000.0
"""Points: a longer piece of a line is not drawn."""


def draw_dots(raster: NDArray[np.uint8], shown: Iterable[Shape]) -> None:
    """Draw shapes onto a raster of roles."""
    rows, columns = raster.shape[0] // HIGH, raster.shape[1] // WIDE
    cells = raster.reshape(rows, HIGH, columns, WIDE)
    x, y = (np.arange(columns) + 0.5) * WIDE, (np.arange(rows) + 0.5)[:, None] * HIGH
    for shape in shown:
        if isinstance(shape, Area):
            inside = np.zeros((rows, columns), bool)
            for (x1, y1), (x2, y2) in zip(shape.corners, np.roll(shape.corners, -1, axis=0), strict=True):
                if y1 != y2:  # a ray to the right crosses an odd number of sides from within
                    inside ^= ((y1 > y) != (y2 > y)) & (x < (x2 - x1) * (y - y1) / (y2 - y1) + x1)
            cells.transpose(0, 2, 1, 3)[inside] = role(shape.role)
        elif isinstance(shape, Rim):
            for a, b in zip(shape.points[:-1], shape.points[1:], strict=True):
                size = float(np.hypot(*(b - a)))
                if size < FAR:
                    points = (a + np.linspace(0.0, 1.0, int(size / EVERY) + 2)[:, None] * (b - a)).astype(int)
                    points = points[((points >= 0) & (points < (raster.shape[1] - 1, raster.shape[0] - 1))).all(axis=1)]
                    for across, down in ((0, 0), (1, 0), (0, 1), (1, 1)):
                        raster[points[:, 1] + down, points[:, 0] + across] = role(shape.role)
