"""Sets a known pose for the robots of a line."""

from __future__ import annotations

import numpy as np

from pivrex.line.balance import STANDS
from pivrex.line.line import Line, LineState
from pivrex.line.odometry import Odometry
from pivrex.line.stage import Floats
from pivrex.rig import Field

__all__ = ["begun", "known_at", "set_up", "start_of", "taken_in_hand"]


BY_EYE = 50.0


def start_of(field: Field | None) -> Floats:
    """Return where a robot stands that was put onto a field, (3,)."""
    return np.array([field.start.x_m, field.start.y_m, field.start.heading_rad]) if field is not None else np.zeros(3)


def begun(line: Line, pose: Floats, batch: tuple[int, ...] = ()) -> LineState:
    """Return the state of a line before its first tick, whose robots estimate their pose as B + (3,). One that balances has been set up
    and held still, so it stands from the first tick on; a line that has just been made (`Line.start`) waits for that.
    """
    return set_up(line, known_at(line, line.start(batch), pose))


def set_up(line: Line, state: LineState) -> LineState:
    """Return the state of a line whose robots have just been set up where they are: of one that balances tilt and balance begin again,
    and it stands from the first tick on.
    """
    if "balance" not in line.stages:
        return state
    batch = state.tick.shape
    # a person sets it upright by eye, which counts as so many readings of accelerometers
    upright = line.stages["tilt"].start(batch)._replace(lean=0.0, age=BY_EYE)
    state = line.changed(state, "tilt", upright)
    return line.changed(state, "balance", line.stages["balance"].start(batch)._replace(state=STANDS))


def taken_in_hand(line: Line, state: LineState, moved: bool = False) -> LineState:
    """Return the state of a line whose robots are in the hand: one that balances has its drive off, and waits to be set up. ``moved``: faster
    than its tilt sensor could follow, so that the filter begins again.
    """
    if "balance" not in line.stages:
        return state
    if moved:
        state = line.changed(state, "tilt", line.stages["tilt"].start(state.tick.shape))
    return line.changed(state, "balance", line.stages["balance"].start(state.tick.shape))


def known_at(line: Line, state: LineState, pose: Floats) -> LineState:
    """Return the state of a line whose robots are known to be at a pose, B + (3,)."""
    stage = line.stages["odometry"]
    assert isinstance(stage, Odometry)
    return line.changed(state, "odometry", stage.put(line.of(state, "odometry"), pose))
