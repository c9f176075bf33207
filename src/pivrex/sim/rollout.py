"""Robots and their lines over time: sense, line, command, for one robot or many at once."""

from __future__ import annotations

from typing import Any

from pivrex.line import Entry, Line, LineState
from pivrex.line.stage import Floats
from pivrex.sim.driving import drive
from pivrex.sim.model import AnyStandIn

__all__ = ["Rollout"]


class Rollout:
    """A line and a stand-in, ticked together; both for a batch of shape B.

    Attributes
    ----------
    line, model
    state : LineState
    robot
        The model's own state.
    """

    def __init__(self, line: Line, model: AnyStandIn, state: LineState | None = None, robot: Any = None) -> None:
        self.line, self.model = line, model
        self.state = state if state is not None else line.start()
        self.robot = robot if robot is not None else model.start(self.state.tick.shape)

    def tick(
        self,
        raw: Floats,
        stop: Floats | float = 0.0,
        driving: Floats | float = 0.0,
        entry: Entry | None = None,
        sensed: Floats | None = None,
        counts: bool = True,
    ) -> Floats:
        """Make one tick; gives its row, B + (K,).

        ``sensed`` counts instead of what the stand-in senses. A tick that does not count leaves no trace: its row is
        what it would have been.
        """
        state, robot, row = drive(self.line, self.model, self.state, self.robot, raw, stop, driving, entry, sensed)
        if counts:
            self.state, self.robot = state, robot
        return row
