"""Where a field, or a window on it, lies in a picture."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from pivrex.rig import Field

__all__ = ["FieldScale", "scale_of", "window_of"]

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class FieldScale:
    """Where a field, or a window on it, lies in a picture: dots to the metre, the cell of its top left corner, how many cells
    it has, and which point of the field its top left corner is.
    """

    per_m: float
    left: int
    top: int
    cells: tuple[int, int]
    top_m: float
    left_m: float = 0.0

    def x(self, x_m: Floats | float) -> Floats:
        """Dots across."""
        return (np.asarray(x_m) - self.left_m) * self.per_m

    def y(self, y_m: Floats | float) -> Floats:
        """Dots down."""
        return (self.top_m - np.asarray(y_m)) * self.per_m

    def cell(self, x_m: float, y_m: float) -> tuple[int, int]:
        """The cell that a point lies in."""
        across, down = (x_m - self.left_m) * self.per_m / 2, (self.top_m - y_m) * self.per_m / 4
        return self.left + int(np.floor(across)), self.top + int(np.floor(down))

    def metres(self, x: int, y: int) -> tuple[float, float]:
        """The point of the field in the middle of a cell."""
        return (
            self.left_m + (x + 0.5 - self.left) * 2 / self.per_m,
            self.top_m - (y + 0.5 - self.top) * 4 / self.per_m,
        )

    def holds(self, x: int, y: int) -> bool:
        """Tell whether a cell of the picture is one of the field's."""
        return 0 <= x - self.left < self.cells[0] and 0 <= y - self.top < self.cells[1]


def scale_of(field: Field, width: int, height: int) -> FieldScale:
    """Fit a field into ``width`` × ``height`` cells, with room for its walls and its ruler."""
    per_m = max(1.0, min((width - 2) * 2 / field.length_m, (height - 3) * 4 / field.width_m))
    cells = (max(1, int(np.ceil(field.length_m * per_m / 2))), max(1, int(np.ceil(field.width_m * per_m / 4))))
    return FieldScale(per_m, 1 + max(0, (width - 2 - cells[0]) // 2), 1, cells, field.width_m)


def window_of(field: Field, width: int, height: int, high_m: float, x_m: float, y_m: float) -> FieldScale:
    """Give a window of ``high_m`` on a field round a place; it moves in steps of an eighth of its height, so that what stands
    still is not drawn anew in every frame.
    """
    per_m = max(1.0, (height - 3) * 4 / high_m)
    cells = (max(1, width - 2), max(1, height - 3))
    step = high_m / 8
    wide_m = cells[0] * 2 / per_m
    left = round((x_m - wide_m / 2) / step) * step
    top = round((y_m + high_m / 2) / step) * step
    return FieldScale(per_m, 1, 1, cells, top, left)
