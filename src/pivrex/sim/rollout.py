"""Robots and their lines over time: sense, line, command, for one robot or many at once."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from pivrex.line import Entry, Line, LineState
from pivrex.line.stage import Floats
from pivrex.sim.stand_in import StandIn, StandInState

__all__ = ["Rollout", "drive_through"]


class Rollout:
    """A line and a stand-in, ticked together; both for a batch of shape B.

    Attributes
    ----------
    line, model
    state : LineState
    robot : StandInState
    """

    def __init__(
        self, line: Line, model: StandIn, state: LineState | None = None, robot: StandInState | None = None
    ) -> None:
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
        before = self.robot
        if sensed is None:
            sensed = self.model.sense(before)
        after, row = self.line.step(self.state, raw, sensed, stop, driving, self.model.truth(before), entry)
        if counts:
            self.state = after
            self.robot = self.model.step(before, self.line.told(row), self.line.dt_s)
        return row


def drive_through(
    model: StandIn, robot: StandInState, told: Floats, counts: Sequence[bool], dt_s: float
) -> tuple[StandInState, StandInState]:
    """Let one robot obey commands that are known beforehand, (N, V); gives its states before each of them, as a batch of
    shape (N,), and the one after them all. A command that does not count moves nothing.
    """
    states = []
    for values, counted in zip(told, counts, strict=True):
        states.append(robot)
        robot = model.step(robot, values, dt_s) if counted else robot
    return StandInState(*(np.stack(parts) for parts in zip(*states, strict=True))), robot
