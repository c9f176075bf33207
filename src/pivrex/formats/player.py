"""Plays a recording at the rate; it holds the last reading."""

from __future__ import annotations

import math

from pivrex.formats.recording import Reading, Recording

__all__ = ["Player", "due_tick"]

EARLY = 0.25
"""Times in files are rounded: a reading counts for the tick that it misses by less than this share of one."""


def due_tick(t_s: float, dt_s: float) -> int:
    """Return the first tick that sees a reading of time ``t_s``."""
    return max(0, math.ceil(t_s / dt_s - EARLY))


class Player:
    """Plays a recording onto the rate: at tick n the last reading that is due."""

    def __init__(self, recording: Recording, dt_s: float) -> None:
        self._recording, self._dt_s = recording, dt_s
        self.rewind()

    def rewind(self) -> None:
        """Go back to the first reading."""
        self._readings = self._recording.readings()
        self._tick = 0
        self.reading = next(self._readings)
        self._next = next(self._readings, None)

    @property
    def ended(self) -> bool:
        """Whether the last reading has been given."""
        return self._next is None and self._tick > due_tick(self.reading.t_s, self._dt_s)

    def advance(self) -> Reading:
        """Return the reading of the next tick."""
        while self._next is not None and due_tick(self._next.t_s, self._dt_s) <= self._tick:
            self.reading, self._next = self._next, next(self._readings, None)
        self._tick += 1
        return self.reading
