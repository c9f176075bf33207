"""Lines whose robots know where they are."""

from __future__ import annotations

import numpy as np

from pivrex.line.line import Line, LineState
from pivrex.line.odometry import Odometry
from pivrex.line.stage import Floats
from pivrex.rig import Field

__all__ = ["begun", "known_at", "start_of"]


def start_of(field: Field | None) -> Floats:
    """Give where a robot stands that was put onto a field, (3,)."""
    return np.array([field.start.x_m, field.start.y_m, field.start.heading_rad]) if field is not None else np.zeros(3)


def begun(line: Line, pose: Floats, batch: tuple[int, ...] = ()) -> LineState:
    """Give the state of a line before its first tick, whose robots believe to be at a pose, B + (3,)."""
    return known_at(line, line.start(batch), pose)


def known_at(line: Line, state: LineState, pose: Floats) -> LineState:
    """Give the state of a line whose robots are known to be at a pose, B + (3,)."""
    stage = line.stages["odometry"]
    assert isinstance(stage, Odometry)
    return line.changed(state, "odometry", stage.put(line.of(state, "odometry"), pose))
