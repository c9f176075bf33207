"""The clock: ticks at a constant rate. A tick that would start later than the next is skipped and counted."""

from __future__ import annotations

import time

__all__ = ["Clock"]


class Clock:
    """Sleeps to the next tick of a rate.

    Attributes
    ----------
    skipped : int
        Ticks that were left out because their time had passed.
    """

    def __init__(self, dt_s: float) -> None:
        self.skipped = 0
        self.set_period(dt_s)

    def set_period(self, dt_s: float) -> None:
        """Go on with another period from now."""
        self._dt_s = dt_s
        self._due = time.perf_counter() + dt_s

    def wait(self) -> float:
        """Sleep until the next tick is due; returns how late it is, in s."""
        now = time.perf_counter()
        if now < self._due:
            time.sleep(self._due - now)
            now = time.perf_counter()
        late = now - self._due
        missed = int(late // self._dt_s) if late > 0 else 0
        if missed:
            self.skipped += missed
            late -= missed * self._dt_s
        self._due += (missed + 1) * self._dt_s
        return max(0.0, late)
