"""The newest Ticks that the screen keeps for its strips, and the path of the robot."""

from __future__ import annotations

from collections import deque

import numpy as np

from pivrex.line.layout import Column, Floats, Layout
from pivrex.line.line import Line
from pivrex.session.shared import Row
from pivrex.session.status import Shown

__all__ = ["TRAIL_EVERY", "History", "ShownCurves", "Trace"]

KEPT = 1200
"""Ticks: 20 s at 60 Hz."""


TRAIL_EVERY = 3
"""A point of the trail for every so many ticks."""

STILL_S, STILL = 0.25, 2e-3
"""For so long, in s, no column that shows motion may have changed by more than this, in its unit."""


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


class ShownCurves:
    """The values that a routine showed: for each label, a curve over time.

    Attributes
    ----------
    by_label : dict of str to deque of Shown
    """

    def __init__(self) -> None:
        self.by_label: dict[str, deque[Shown]] = {}
        self._last: tuple[Shown, ...] = ()

    def take(self, shown: tuple[Shown, ...]) -> list[Shown]:
        """Take what was shown last at each line; returns what is new of it."""
        before, self._last = self._last, shown
        if shown is before:
            return []
        if not shown or (before and shown[-1].t_s < before[-1].t_s):
            self.by_label, before = {}, ()
        new = [one for one in shown if one not in before]
        for one in new:
            self.by_label.setdefault(one.label, deque(maxlen=KEPT)).append(one)
        return new


class Trace:
    """The drive since the robot was put at its start, as far as the screen remembers it.

    Attributes
    ----------
    history : History
    trail, ghost : list of (x, y)
        Where the robot has been, and the time before.
    """

    def __init__(self) -> None:
        self.history = History(0)
        self.trail: list[tuple[float, float]] = []
        self.ghost: list[tuple[float, float]] = []
        self._run = self._since = 0
        self.newest = 0
        """Counts the Ticks that were taken."""
        self.serial = self.alike = 0
        """Which rig made the newest Tick, and how many of the newest it made in a row."""
        self._showing: tuple[Layout, list[int]] | None = None

    def begin(self, run: int, trail: list[tuple[float, float]]) -> None:
        """Begin again with a trail; the Ticks that are kept stay."""
        self.trail, self.ghost, self._run, self._since = trail, [], run, 0

    def add(self, rows: list[Row], layout: Layout) -> None:
        """Take new Ticks, oldest first."""
        x, y = layout.at("truth", "x"), layout.at("truth", "y")
        for row in rows:
            self.alike = self.alike + 1 if row.serial == self.serial else 1
            self.serial = row.serial
            if row.run != self._run:
                self._run = row.run
                self.ghost, self.trail = self.trail, []
            self._since += 1
            if self._since >= TRAIL_EVERY or not self.trail:
                self._since = 0
                self.trail.append((float(row.values[x]), float(row.values[y])))
        self.newest += len(rows)
        self.history.add([row.values for row in rows[-KEPT:]])

    def is_still(self, line: Line) -> bool:
        """Return whether the newest Ticks of this line show no motion: sticks, commands, wheels and pose stay as they are."""
        if self._showing is None or self._showing[0] is not line.layout:
            self._showing = line.layout, [i for i, c in enumerate(line.layout.columns) if _shows_motion(c)]
        count = max(2, round(STILL_S / line.dt_s))
        if min(self.alike, len(self.history.rows)) < count:
            return False
        newest = self.history.rows[-count:, self._showing[1]]
        return not (np.ptp(newest, axis=0) > STILL).any()  # NaN, where nothing is sensed, is no motion


def _shows_motion(column: Column) -> bool:
    match column.stage:
        case "raw" | "law" | "attachments" | "outputs":
            return True
        case "sensed":
            return column.name.endswith("_travel")
        case "odometry":
            return column.name in ("x", "y", "heading")
    return False
