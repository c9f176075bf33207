"""A scene: marks in metres or in the units of a chart, each with the role that gives it its colour. It knows no printer."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import ArrayLike, NDArray

from pivrex.scene.marks import CIRCLE, Area, Arrow, Bytes, Caption, Dots, Label, Line, Mark, Spot, Stamped
from pivrex.scene.placing import Box, Margins, Placing

__all__ = ["Box", "Margins", "Placing", "Scene"]

Floats = NDArray[np.float64]


class Scene:
    """Marks, in the order of drawing.

    Parameters
    ----------
    box : Box
        What is shown of it.
    equal : bool
        Whether a unit is as long up as across: a place, not a chart. More than the box is shown then where there is room.
    margins : Margins
        Room for what stands next to the box.
    below : Scene, optional
        What is drawn first, and seldom changes: a printer may keep it. It has the same box and margins.
    """

    def __init__(
        self, box: Box, equal: bool = True, margins: Margins | None = None, below: Scene | None = None
    ) -> None:
        self.box, self.equal, self.margins, self.below = box, equal, margins or Margins(), below
        self.marks: list[Mark] = []

    def area(self, corners: ArrayLike, named: str) -> None:
        """Fill a shape, given by its corners in order."""
        self.marks.append(Area(_points(corners), named))

    def disc(self, at: ArrayLike, radius: float, named: str) -> None:
        """Fill a disc, its radius in the scene's units."""
        self.area(np.asarray(at, float) + radius * CIRCLE, named)

    def circle(self, at: ArrayLike, radius: float, named: str, width: float = 0.2, dash: float = 0.0) -> None:
        """Draw a circle, its radius in the scene's units."""
        self.line(np.asarray(at, float) + radius * CIRCLE, named, width, dash)

    def line(self, points: ArrayLike, named: str, width: float = 0.2, dash: float = 0.0) -> None:
        """Draw a line."""
        self.marks.append(Line(_points(points), named, width, dash))

    def arrow(self, start: ArrayLike, end: ArrayLike, named: str, width: float = 0.6, shift: float = 0.0) -> None:
        """Draw an arrow."""
        self.marks.append(Arrow(np.asarray(start, float), np.asarray(end, float), named, width, shift))

    def dots(self, points: ArrayLike, named: str, radius: float = 0.4) -> None:
        """Draw discs that have one size at every scale."""
        self.marks.append(Dots(_points(points), named, radius))

    def label(self, at: ArrayLike, text: str, named: str = "rest", weight: float = 1.0, sides: str = "over") -> None:
        """Write a text at a point; ``sides`` separated by spaces."""
        self.marks.append(Label(np.asarray(at, float), text, named, weight, tuple(sides.split())))

    def caption(self, text: str, named: str = "dim", where: str = "top") -> None:
        """Write a text in a margin; one that has no room is left out."""
        if text:
            self.marks.append(Caption(text, named, where))

    def sign(self, at: ArrayLike, sign: str, named: str) -> None:
        """Write a letter at a point, whatever lies there."""
        self.marks.append(Label(np.asarray(at, float), sign, named, np.inf, ("over",)))

    def spot(self, corners: ArrayLike, what: str, value: str = "") -> None:
        """Mark what can be clicked; the last one lies on top."""
        self.marks.append(Spot(_points(corners), what, value))

    def stamped(
        self, at: ArrayLike, length: float, least: float, marks: Sequence[Mark], stamps: tuple[Bytes, Bytes]
    ) -> None:
        """Draw marks where their length, in the scene's units, is at least so many letters; else a stamp."""
        self.marks.append(Stamped(np.asarray(at, float), length, least, marks, stamps))

    def placing(self, columns: int, rows: int, letter: float, line: float) -> Placing:
        """Return where it lies on so many letters and lines, each letter ``letter`` points wide and ``line`` points high."""
        return Placing.of(self.box, self.margins, self.equal, columns, rows, letter, line)

    def all_marks(self) -> list[Mark]:
        """Return the marks of the part below and its own."""
        return [*(self.below.all_marks() if self.below is not None else ()), *self.marks]


def _points(of: ArrayLike) -> Floats:
    return np.asarray(of, float).reshape(-1, 2)
