"""Where a body touches the floor: wheels and casters, and how its weight is shared between them."""

from __future__ import annotations

from math import cos, sin, sqrt
from typing import NamedTuple

import numpy as np

from pivrex.line.stage import Floats
from pivrex.rig.body import Body
from pivrex.rig.rig import Rig

__all__ = ["Contact", "contacts_of", "loads_of"]


class Contact(NamedTuple):
    """A wheel, a caster or a skid on the floor, as `BodySettings` has it."""

    x: float
    y: float
    first: tuple[float, float, float]
    second: tuple[float, float, float]
    rolls: tuple[float, float]
    turn: int
    motor: int
    grip: tuple[float, float]
    is_plain: bool


def contacts_of(rig: Rig, body: Body, motor_of: dict[str, int], back: bool) -> list[Contact]:
    """Return the contacts of wheels, then of casters; those of a robot on its back as `pivrex.rig.geometry` has them."""
    side = -1.0 if back else 1.0
    cx, cy = rig.chassis.mass_centre.x_m, rig.chassis.mass_centre.y_m
    steered = list(rig.steered)
    found = []
    along, across = body.grip, body.across
    for wheel in rig.chassis.wheels:
        x, y, drive = wheel.x_m - cx, wheel.y_m - cy, wheel.drive_rad
        plain = wheel.rollers_rad is None
        # along the axis of a roller it grips, square to it the roller rolls
        angle = drive if wheel.rollers_rad is None else drive + side * wheel.rollers_rad
        first, second = (cos(angle), sin(angle)), (-sin(angle), cos(angle))
        way = (cos(drive), sin(drive))
        rolls = tuple(side * wheel.radius_m * (way[0] * e[0] + way[1] * e[1]) for e in (first, second))
        found.append(
            Contact(
                x=x,
                y=side * y,
                first=_passing(first, x, y, side),
                second=_passing(second, x, y, side),
                turn=steered.index(wheel.name) if wheel.name in steered else -1,
                rolls=(rolls[0], rolls[1]),
                motor=motor_of[wheel.name],
                grip=(along, across if plain else body.rollers),
                is_plain=plain,
            )
        )
    for caster in rig.chassis.casters:
        x, y = caster.x_m - cx, caster.y_m - cy
        found.append(
            Contact(
                x=x,
                y=side * y,
                first=_passing((1.0, 0.0), x, y, side),
                second=_passing((0.0, 1.0), x, y, side),
                turn=-1,
                rolls=(0.0, 0.0),
                motor=-1,
                grip=(body.casters, body.casters),
                is_plain=False,
            )
        )
    return found


def _passing(way: tuple[float, float], x: float, y: float, side: float) -> tuple[float, float, float]:
    """How fast a point passes along a direction for each unit of a twist, with left and turning mirrored on the back."""
    return way[0], side * way[1], side * (x * way[1] - y * way[0])


def loads_of(places: list[tuple[float, float]], height: float, gravity: float) -> Floats:
    """Return the load on each support for each kg: at rest, and for each m/s² of acceleration forward and left, (C, 3).

    Notes
    -----
    The loads carry the weight and its moment about the mass centre, Σ N = m·g, Σ N·x = -m·a_x·h, Σ N·y = -m·a_y·h. More
    than three supports would leave this open; a stiff frame on equal springs has N = α + β·x + γ·y, the solution of least
    squares.
    """
    where = np.array([(1.0, x, y) for x, y in places])
    # lengths in units of the robot's size, so that a line of supports counts as a line
    size = max(1e-3, sqrt(float((where[:, 1:] ** 2).sum(axis=1).max())))
    scaled = where / np.array([1.0, size, size])
    spread: Floats = scaled @ np.linalg.pinv(scaled.T @ scaled, rcond=1e-9, hermitian=True)
    wanted = np.array([[gravity, 0.0, 0.0], [0.0, -height / size, 0.0], [0.0, 0.0, -height / size]])
    loads: Floats = spread @ wanted
    return loads
