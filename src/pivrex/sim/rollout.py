"""Robots and their lines over time: sense, line, command, for one robot or many at once."""

from __future__ import annotations

from typing import Any

import numpy as np

from pivrex.line import Entry, Line, LineState
from pivrex.line.entry import enter
from pivrex.line.input_stages import NOWHERE, SensedRow
from pivrex.line.stage import Floats
from pivrex.line.tick import Tick
from pivrex.sim.driving import driven_by
from pivrex.sim.model import AnySimulator

__all__ = ["Rollout"]


class Rollout:
    """A line and a simulated robot, ticked together; both for a batch of shape B.

    Attributes
    ----------
    line, model
    state : LineState
    robot
        The model's own state.
    """

    def __init__(self, line: Line, model: AnySimulator, state: LineState | None = None, robot: Any = None) -> None:
        self.line, self.model = line, model
        self.state = state if state is not None else line.start()
        self.robot = robot if robot is not None else model.start(self.state.tick.shape)

    def tick(
        self, raw: Floats, stop: Floats | float = 0.0, driving: Floats | float = 0.0, entry: Entry | None = None,
        sensed: Floats | None = None, counts: bool = True,
    ) -> Floats:  # fmt: skip
        """Make one tick; returns its row, B + (K,).

        ``sensed`` counts instead of what the simulated robot senses. A tick that does not count leaves no trace: its row is
        what it would have been.
        """
        line, model, state = self.line, self.model, self.state
        row = line.begin(state.tick, raw, np.zeros(()), stop, driving, NOWHERE)
        batch, tick, call = row.shape[:-1], Tick(line.form, row), driven_by(line, model)
        memory, after = line.memory.start(batch), model.form.start(batch)
        given = model.driven[2] if sensed is None else SensedRow(line.stages["sensed"].form, sensed)
        args = given, state.memory, memory, self.robot, after, tick, line.dt_s
        if entry is None:
            call(batch, *args, 1.0, 1.0)
        else:
            call(batch, *args, 1.0, 0.0)
            enter(line.stages, row, entry)
            call(batch, *args, 0.0, 1.0)
        if counts:
            self.state, self.robot = LineState(state.tick + 1.0, memory), after
        return row
