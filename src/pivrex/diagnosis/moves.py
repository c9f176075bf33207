"""The commands that a probe sends to a port, tick by tick."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

__all__ = ["MotorMove", "Run", "Runner"]

Floats = NDArray[np.float64]

SETTLE_S = 0.4
"""A moved wheel rolls out before anyone looks."""


@dataclass(frozen=True)
class MotorMove:
    """One thing that a motor does for a while.

    Attributes
    ----------
    port : int
        The port, in the order of the rig's motors.
    duty : float
        In [-1, 1], in the port's own sense; at the end of a ramp.
    seconds : float
        How long at most.
    ramp : bool
        Whether the duty rises evenly from 0.
    watch : int
        The sensed value that ends the move early; -1 for none.
    until : float
        By how much that value must change, in either direction.
    """

    port: int
    duty: float
    seconds: float
    ramp: bool = False
    watch: int = -1
    until: float = 0.0


@dataclass(frozen=True)
class Run:
    """A move that was carried out: what was sensed before and after it, with what is true of a simulated robot behind it where
    that is known, and the duty at its end.
    """

    before: Floats
    after: Floats
    duty: float


class Runner:
    """Carries moves out, each followed by a rest in which the wheels roll out.

    Attributes
    ----------
    runs : list of Run
        The moves that are over.
    """

    def __init__(self, moves: tuple[MotorMove, ...], dt_s: float) -> None:
        self._moves, self._dt_s = moves, dt_s
        self._tick = 0
        self._resting = 0
        self._duty = 0.0
        self._before: Floats | None = None
        self.runs: list[Run] = []

    def step(self, sensed: Floats) -> tuple[int, float] | None:
        """Take what is sensed before a tick; returns the port and the duty for it, None when all is over."""
        if self._before is not None and self._resting == 0 and self._ends(sensed):
            self._resting = max(1, round(SETTLE_S / self._dt_s))
        elif self._resting > 0:
            self._resting -= 1
            if self._resting == 0:
                assert self._before is not None
                self.runs.append(Run(self._before, sensed.copy(), self._duty))
                self._before = None
        if len(self.runs) == len(self._moves):
            return None
        move = self._moves[len(self.runs)]
        if self._before is None:
            self._before, self._tick, self._duty = sensed.copy(), 0, 0.0
        if self._resting:
            return move.port, 0.0
        self._tick += 1
        self._duty = move.duty * (self._tick / self._ticks(move) if move.ramp else 1.0)
        return move.port, self._duty

    def end_move(self) -> None:
        """End the move now: a person saw it."""
        if self._before is not None and self._resting == 0:
            self._resting = max(1, round(SETTLE_S / self._dt_s))

    def _ticks(self, move: MotorMove) -> int:
        return max(1, round(move.seconds / self._dt_s))

    def _ends(self, sensed: Floats) -> bool:
        move = self._moves[len(self.runs)]
        if self._tick >= self._ticks(move):
            return True
        assert self._before is not None
        return move.watch >= 0 and bool(abs(sensed[move.watch] - self._before[move.watch]) >= move.until)
