"""The commanded path of a routine: its requests, joined as if the robot followed them exactly."""

from __future__ import annotations

import numpy as np

from pivrex.line.line import Line
from pivrex.line.routine_stage import OF_FIELD
from pivrex.line.se2 import move_along, straighten
from pivrex.line.stage import Floats

__all__ = ["commanded_path"]


def commanded_path(line: Line, rows: Floats, start: Floats) -> Floats:
    """Return the poses that Ticks, (N, K), ask for from a start, (3,): before the first and after each, (N + 1, 3).

    Notes
    -----
    What is asked along the field is turned to the asked heading in the middle of each tick, and stretched so that the
    displacement is the one that was asked for (`pivrex.line.se2.straighten`).
    """
    layout, dt = line.layout, line.dt_s
    twist = rows[:, layout.these("law", ("forward", "left", "turn"))] * rows[:, layout.at("law", "entered"), None]
    steps = twist * dt
    heading = start[2] + np.concatenate(([0.0], np.cumsum(steps[:, 2])))[:-1]
    if layout.has("frame", "heading"):
        field = rows[:, layout.at("routine", "frame")] == OF_FIELD
        zero = rows[:, layout.at("heading", "heading")] - rows[:, layout.at("frame", "heading")]
        half, gain = straighten(steps[:, 2])
        angle = heading - zero + half
        c, s = np.cos(angle) * gain, np.sin(angle) * gain
        forward, left = steps[:, 0].copy(), steps[:, 1].copy()
        steps[:, 0] = np.where(field, c * forward + s * left, forward)
        steps[:, 1] = np.where(field, c * left - s * forward, left)
    return move_along(np.asarray(start, float), steps)
