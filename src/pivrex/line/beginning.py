"""Lines whose robots know where they are."""

from __future__ import annotations

import numpy as np

from pivrex.line.balance import STANDS
from pivrex.line.line import Line, LineState
from pivrex.line.odometry import Odometry
from pivrex.line.stage import Floats
from pivrex.rig import Field

__all__ = ["begun", "known_at", "start_of"]


def start_of(field: Field | None) -> Floats:
    """Give where a robot stands that was put onto a field, (3,)."""
    return np.array([field.start.x_m, field.start.y_m, field.start.heading_rad]) if field is not None else np.zeros(3)


def begun(line: Line, pose: Floats, batch: tuple[int, ...] = ()) -> LineState:
    """Return the state of a line before its first tick, whose robots estimate their pose as B + (3,). One that balances has been set up
    and held still, so it stands from the first tick on; a line that has just been made (`Line.start`) waits for that.
    """
    state = known_at(line, line.start(batch), pose)
    if "balance" in line.stages:
        state = line.changed(state, "balance", line.of(state, "balance")._replace(state=STANDS))
    return state


def known_at(line: Line, state: LineState, pose: Floats) -> LineState:
    """Give the state of a line whose robots are known to be at a pose, B + (3,)."""
    stage = line.stages["odometry"]
    assert isinstance(stage, Odometry)
    return line.changed(state, "odometry", stage.put(line.of(state, "odometry"), pose))
