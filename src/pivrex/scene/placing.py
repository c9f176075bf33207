"""Places a scene on a sheet of letters."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import NamedTuple

import numpy as np
from numpy.typing import ArrayLike, NDArray

__all__ = ["Box", "Margins", "Placing"]

Floats = NDArray[np.float64]


class Box(NamedTuple):
    """The visible part, in the scene's units; up and right are positive."""

    left: float
    bottom: float
    right: float
    top: float


class Margins(NamedTuple):
    """Room round the box, in letters and lines of text."""

    left: int = 0
    top: int = 0
    right: int = 0
    bottom: int = 0


@dataclass(frozen=True)
class Placing:
    """Where a scene lies: in a rectangle of letters, each ``letter`` points wide and ``line`` points high.

    Points count from the top left corner of the box, across and down. They are as long across as down.
    """

    left: float
    top: float
    across: float
    """Points for a unit to the right."""
    up: float
    """Points for a unit upwards."""
    columns: int
    """Letters that the box is wide."""
    rows: int
    """Lines that it is high."""
    letter: float
    line: float
    margins: Margins

    @cached_property
    def _scale(self) -> Floats:
        return np.array([self.across, -self.up])

    @cached_property
    def _shift(self) -> Floats:
        return np.array([-self.left * self.across, self.top * self.up])

    @classmethod
    def of(
        cls, box: Box, margins: Margins, equal: bool, columns: int, rows: int, letter: float, line: float
    ) -> Placing:
        """Fit a box into ``columns`` letters and ``rows`` lines, margins included; ``equal`` keeps a unit as long up as across."""
        w, h = max(1, columns - margins.left - margins.right), max(1, rows - margins.top - margins.bottom)
        wide, high = max(box.right - box.left, 1e-9), max(box.top - box.bottom, 1e-9)
        across, up = w * letter / wide, h * line / high
        if equal:
            across = up = min(across, up)
        left = (box.left + box.right) / 2 - w * letter / across / 2
        top = (box.bottom + box.top) / 2 + h * line / up / 2
        return cls(left, top, across, up, w, h, letter, line, margins)

    def points(self, of: ArrayLike) -> Floats:
        """Return where points, (N, 2) or (2,), lie."""
        placed: Floats = np.asarray(of, float) * self._scale + self._shift
        return placed

    def cell(self, x: float, y: float) -> tuple[int, int]:
        """Return the letter that a point of the scene lies in, margins counted."""
        px, py = (x - self.left) * self.across, (self.top - y) * self.up
        column, row = int((px + 1e-6) // self.letter), int((py + 1e-6) // self.line)
        # a point on the far edge belongs to the last letter
        column -= column == self.columns and px < self.columns * self.letter + 1e-6
        row -= row == self.rows and py < self.rows * self.line + 1e-6
        return self.margins.left + column, self.margins.top + row

    def units(self, column: int, row: int) -> tuple[float, float]:
        """Return the point of the scene in the middle of a letter, margins counted."""
        x, y = (column - self.margins.left + 0.5) * self.letter, (row - self.margins.top + 0.5) * self.line
        return self.left + x / self.across, self.top - y / self.up

    def holds(self, column: int, row: int) -> bool:
        """Return whether a letter, margins counted, lies in the box."""
        return 0 <= column - self.margins.left < self.columns and 0 <= row - self.margins.top < self.rows
