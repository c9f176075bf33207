"""The guard: decides what a lost source means, and when it may return: only with its controls at rest."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from numpy.typing import NDArray

from pivrex.devices.source import Source
from pivrex.line import Line
from pivrex.line.questions.neutral import not_at_rest

__all__ = ["Guard"]

Floats = NDArray[np.float64]


class Guard:
    """Watches one source.

    Attributes
    ----------
    reason : str
        Why it is not listened to; empty while it is.
    share : float
        What is left of its last readings: 1 while it is heard; where the rig says so it goes to 0 within a set time.
    """

    def __init__(self, source: Source) -> None:
        self.source = source
        self.reason = source.lost
        self.share = 0.0 if source.lost else 1.0
        self._lost_s = float("-inf")
        self._last: Mapping[str, float] = {}

    @property
    def waits(self) -> bool:
        """Whether it is lost, or back but not at rest yet."""
        return bool(self.reason)

    def look(self, line: Line, readings: Mapping[str, float], driving: bool, now_s: float) -> Mapping[str, float]:
        """Take a tick's readings of the source; returns those that count."""
        lost = self.source.lost
        if lost:
            if not self.reason:
                self._lost_s = now_s
            self.reason = lost
        elif self.reason:
            self.reason = self._not_at_rest(line, readings, driving)
        if not self.reason:
            self._last, self.share = readings, 1.0
            return readings
        spec = line.rig.sources.get(self.source.name)
        if spec is None or spec.when_lost != "ramp" or not lost:
            self.share = 0.0
            return {}
        self.share = max(0.0, 1.0 - (now_s - self._lost_s) / spec.ramp_s)
        # sticks go back to rest; buttons are let go at once
        return {
            c: self.share * v for c, v in self._last.items() if self.share and not c.startswith(("button_", "letter "))
        }

    def _not_at_rest(self, line: Line, readings: Mapping[str, float], driving: bool) -> str:
        mine = [
            i
            for i, (source, _) in enumerate(line.inputs.wanted)
            if source in (self.source.name, self.source.kind) or (driving and source == "chosen")
        ]
        raw = np.full(len(line.inputs.wanted), np.nan)
        for i in mine:
            raw[i] = readings.get(line.inputs.wanted[i][1], np.nan)
        return not_at_rest(line, raw, self.source.name if driving else "", mine)
