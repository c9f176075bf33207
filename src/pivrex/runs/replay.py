"""Replays a run: its time, its speed, and the events to jump to."""

from __future__ import annotations

from collections.abc import Collection

from pivrex.runs.events import Event
from pivrex.runs.run import Run

__all__ = ["SPEEDS", "WORTH_A_JUMP", "Replay"]

SPEEDS = (0.05, 0.1, 0.25, 0.5, 1.0, 2.0, 4.0, 8.0)
"""How fast it may go, as times of the drive."""

WORTH_A_JUMP = ("fall", "stop", "lost", "bump", "limit", "mark", "live", "period", "step", "put back")
"""The kinds of events that one jumps to."""


class Replay:
    """A run that plays again.

    Attributes
    ----------
    run : Run
    at : int
        The row that is shown.
    playing : bool
    speed : float
        One of `SPEEDS`.
    """

    def __init__(self, run: Run) -> None:
        self.run, self.at = run, run.first
        self.playing, self.speed = True, 1.0
        self._due = 0.0

    @property
    def last(self) -> int:
        """Its last row."""
        return max(self.run.first, self.run.end - 1)

    @property
    def t_s(self) -> float:
        """How much of it lies behind, in s."""
        return (self.at - self.run.first) * self.run.dt_s

    @property
    def length_s(self) -> float:
        """How long it is, in s."""
        return (self.last - self.run.first) * self.run.dt_s

    def pass_time(self, seconds: float) -> range:
        """Let time pass; returns the rows that are shown now and were not before. At its end it pauses."""
        if not self.playing:
            return range(0)
        self._due += seconds * self.speed / self.run.dt_s
        count, before = int(self._due), self.at
        self._due -= count
        self.at = min(self.at + count, self.last)
        if self.at == self.last:
            self.playing, self._due = False, 0.0
        return range(before + 1, self.at + 1)

    def play(self, on: bool) -> None:
        """Play, or pause; at the end it begins again."""
        self.playing, self._due = on, 0.0
        if on and self.at == self.last:
            self.at = self.run.first

    def step(self, rows: int) -> None:
        """Go on by rows, or back."""
        self.jump(self.at + rows)

    def jump(self, row: int) -> None:
        """Go to a row, and pause there."""
        self.playing, self._due = False, 0.0
        self.at = min(max(row, self.run.first), self.last)

    def faster(self, steps: int) -> None:
        """Take the next speed, or the one before."""
        at = SPEEDS.index(self.speed) + steps
        self.speed = SPEEDS[min(max(0, at), len(SPEEDS) - 1)]

    def next_event(self, way: int, kinds: Collection[str] = WORTH_A_JUMP) -> Event | None:
        """Return the next event of some kinds, or with ``way`` -1 the one before; None if there is none."""
        found = [
            e for e in self.run.events if e.kind in kinds and (e.row - self.at) * way > 0 and e.row >= self.run.first
        ]
        return min(found, key=lambda e: abs(e.row - self.at)) if found else None
