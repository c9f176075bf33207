"""The newest Ticks that the screen keeps for its strips."""

from __future__ import annotations

import numpy as np

from pivrex.line.layout import Floats

__all__ = ["KEPT", "History"]

KEPT = 1200
"""Ticks: 20 s at 60 Hz."""


class History:
    """The newest rows, without moving all of them for each new one."""

    def __init__(self, width: int) -> None:
        self.width = width
        """K."""
        self._rows = np.empty((4 * KEPT, width))
        self._end = 0

    @property
    def rows(self) -> Floats:
        """The kept rows, (N, K), oldest first."""
        return self._rows[max(0, self._end - KEPT) : self._end]

    def add(self, new: list[Floats]) -> None:
        """Take new rows, oldest first."""
        if self._end + len(new) > len(self._rows):
            kept = self.rows.copy()
            self._rows[: len(kept)] = kept
            self._end = len(kept)
        self._rows[self._end : self._end + len(new)] = new
        self._end += len(new)
