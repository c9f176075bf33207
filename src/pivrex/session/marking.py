"""Corrects the robot's pose by a landmark on request."""

from __future__ import annotations

from typing import Any

from pivrex.line.landmarks import NoMarkError, nearest_mark, take
from pivrex.line.layout import plain
from pivrex.rig.sensors import Ranger

__all__ = ["take_mark"]


def take_mark(session: Any) -> None:
    """Take in the mark that is at hand, and say what came of it."""
    line, state, row = session._line, session._state, session._row
    pose = line.of(state, "odometry").pose
    readings = {
        name: float(row[line.layout.at("sensed", plain(name))]) if row is not None else 0.0
        for name, sensor in line.rig.sensors.items()
        if isinstance(sensor, Ranger)
    }
    try:
        own, said = take(
            line.stages["odometry"],
            line.of(state, "odometry"),
            nearest_mark(line.rig, session._rounds.field, pose, readings),
        )
    except NoMarkError as no:
        session.board.note(f"{no}")
    else:
        session._walk(line.changed(state, "odometry", own))
        session.board.note(said)
