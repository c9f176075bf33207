"""The learning drive: the routine that teaches most about a robot."""

from __future__ import annotations

from math import cos, degrees, sin

import numpy as np

from pivrex.errors import LearnError
from pivrex.rig.field import Field
from pivrex.rig.rig import Rig

__all__ = ["LASTS_S", "learning_drive", "room_ahead"]

LASTS_S = 240.0
"""It ends before that."""

LONGEST_M, SHORTEST_M = 1.6, 0.5
SPEEDS = (20, 35, 50, 65, 80, 30, 45, 70)
"""Percent of full."""


def room_ahead(rig: Rig, field: Field) -> float:
    """Return how far the robot can drive ahead from the field's start before its outline comes near anything, in m."""
    reach = float(np.hypot(rig.chassis.length_m, rig.chassis.width_m)) / 2 + 0.05
    start = field.start
    for way in np.arange(0.0, LONGEST_M + 0.05, 0.05):
        x, y = start.x_m + way * cos(start.heading_rad), start.y_m + way * sin(start.heading_rad)
        near = field.walls and not (reach <= x <= field.length_m - reach and reach <= y <= field.width_m - reach)
        for one in field.blocks:
            dx, dy = max(0.0, abs(x - one.x_m) - one.length_m / 2), max(0.0, abs(y - one.y_m) - one.width_m / 2)
            near |= bool(np.hypot(dx, dy) < reach)
        near |= any(np.hypot(x - one.x_m, y - one.y_m) < reach + one.radius_m for one in field.rounds)
        if near:
            return max(0.0, float(way) - 0.05)
    return LONGEST_M


def learning_drive(rig: Rig, name: str, field: Field) -> str:
    """Write it, for a rig by the name of its file, as long as the floor ahead of the start lets it be.

    Raises
    ------
    LearnError
        If there is no room for it.
    """
    room = min(room_ahead(rig, field), LONGEST_M)
    if room < SHORTEST_M:
        raise LearnError(
            f"ahead of the start of {field.name} is room for {room:.2f} m, and it needs {SHORTEST_M:g} m: lay out another floor"
        )
    way = f"{room:.2f} m"
    lines = [
        f"# The learning drive of {rig.name}: slow and fast, straight and turning, standing at both ends. It teaches most about a robot.",
        f"for {name}",
        f"start at {field.start.x_m:.2f} m, {field.start.y_m:.2f} m facing {degrees(field.start.heading_rad):.0f} deg",
        "",
        "from now on without gyro       # what the motors do by themselves is what is learned",
        "wait 5 s                       # the gyro's bias",
    ]
    for k, speed in enumerate(SPEEDS):
        side = "left" if k % 2 == 0 else "right"
        # in all three whole turns more in one direction: they teach the gyro's scale, if someone watches them
        turn = 720 if side == "left" else 360
        lines += ["", f"drive ahead {way} at {speed} %", "wait 0.6 s", f"drive back {way} at {speed} %", "wait 0.6 s"]
        lines += [f"turn {side} {turn} deg at {min(speed, 60)} %", "wait 0.6 s"]
    return "\n".join([*lines, "", "wait 5 s                       # and once more the bias", ""])
