"""Limits the reading in each tick: a time budget, and the measured cost of a message."""

from __future__ import annotations

import time

__all__ = ["Pace"]

FIRST_GUESS_S = 2e-5
LEARNING = 0.2
FEWEST = 8
"""How many messages are read whatever they cost."""


class Pace:
    """Learns what a message costs, and says how many there is time for."""

    def __init__(self) -> None:
        self._cost_s = FIRST_GUESS_S
        self._began = 0.0

    def most(self, budget_s: float) -> int:
        """Return how many messages can be read in ``budget_s``, in s."""
        return max(FEWEST, int(budget_s / self._cost_s))

    def begin(self) -> None:
        """Begin to read."""
        self._began = time.perf_counter()

    def end(self, count: int) -> None:
        """How many have been read since."""
        if count:
            self._cost_s += LEARNING * ((time.perf_counter() - self._began) / count - self._cost_s)

    def over(self, budget_s: float) -> bool:
        """Return whether twice the time is gone: these messages cost more than those before."""
        return time.perf_counter() - self._began > 2 * budget_s
