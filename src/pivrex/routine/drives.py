"""Simulated robots that drive a routine, each with its own interpreter."""

from __future__ import annotations

from typing import Any

import numpy as np

from pivrex.line.line import Line, LineState
from pivrex.line.stage import Floats
from pivrex.rig.field import Field
from pivrex.routine.fleet import Fleet
from pivrex.routine.means import Means
from pivrex.routine.program import Program
from pivrex.routine.runner import Runner
from pivrex.routine.ticking import RoutineState
from pivrex.sim.model import AnySimulator

__all__ = ["Drives"]


class Drives(Fleet):
    """N robots that drive a routine; ``keeps`` Ticks of each are kept in a call.

    Attributes
    ----------
    runners : list of Runner
    """

    def __init__(
        self, program: Program, line: Line, model: AnySimulator, begin: LineState, robots: Any, pose: Floats,
        field: Field | None, keeps: int = 0, rests: float = np.inf,
    ) -> None:  # fmt: skip
        super().__init__(Means(line, keeps), model, begin, robots, pose, rests)
        self.runners = [Runner(program, line, pose, field, self.means, own) for own in self._states()]

    def _states(self) -> list[RoutineState]:
        return [RoutineState(self.state.form, row) for row in self.state.data]

    def copied(self) -> Drives:
        """Return a copy that goes its own way."""
        made = super().copied()
        made.runners = [r.copied(own) for r, own in zip(self.runners, made._states(), strict=True)]
        return made

    @property
    def ended(self) -> bool:
        """Whether all have ended."""
        return bool(np.isfinite(self.ended_at).all())

    def think(self, i: int) -> None:
        """Let a robot's interpreter go on."""
        runner = self.runners[i]
        runner.think()
        self.learn(i, runner.taught)
        if runner.interpreter.ended:
            self.state.ended[i], self.ended_at[i] = 1.0, self.state.tick[i]
