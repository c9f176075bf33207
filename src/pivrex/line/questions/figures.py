"""Figures that students otherwise find by trial: counts for a distance, and how far wheels roll for a turn."""

from __future__ import annotations

from dataclasses import dataclass
from math import degrees, pi

import numpy as np
from numpy.typing import NDArray

from pivrex.line import kinematics
from pivrex.line.se2 import shift
from pivrex.rig.rig import Rig

__all__ = ["WheelFigures", "side", "travel_for", "wheel_figures"]

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class WheelFigures:
    """Figures of one turn of a wheel.

    Attributes
    ----------
    name : str
    metres_per_turn : float
        How far it rolls in one turn.
    counts_per_metre : float
        Encoder counts for a metre; 0 without an encoder.
    degrees_per_turn : float
        How far the robot turns on the spot for one turn of the wheel, in deg; 0 if turning does not roll it.
    """

    name: str
    metres_per_turn: float
    counts_per_metre: float
    degrees_per_turn: float


def wheel_figures(rig: Rig) -> list[WheelFigures]:
    """Return the figures of every wheel, in the order of the chassis.

    Notes
    -----
    A turn of the wheel rolls 2π·r. Turning on the spot by an angle φ rolls it h·φ, with h its surface speed for a turn of
    1 rad/s: the last column of the wheel matrix, or for a steered wheel its distance from the centre.
    """
    turning = travel_for(rig, 1.0)
    found = []
    for wheel, rolled in zip(rig.chassis.wheels, turning, strict=True):
        around = 2 * pi * wheel.radius_m
        motor = next(m for m in rig.motors.values() if wheel.name in m.wheels)
        spin = abs(around / rolled) if abs(rolled) > 1e-9 else 0.0
        found.append(WheelFigures(wheel.name, around, motor.counts_per_wheel_turn / around, degrees(spin)))
    return found


def travel_for(rig: Rig, turn_rad: float, about: tuple[float, float] = (0.0, 0.0)) -> Floats:
    """Return how far each wheel rolls, (W,) in m, while the robot turns by an angle about a point of itself.

    ``about`` is in m: the centre for a turn on the spot, the middle of a side's wheels for a pivot about that side. A
    steered wheel is taken to stand across the line to that point, rolling ahead or to the left.
    """
    twist = shift(np.array([0.0, 0.0, turn_rad]), *about)
    maps = kinematics.kinematics_of(rig.chassis)
    rolled = kinematics.wheel_speeds(maps, twist)
    if maps.hubs is None:
        return rolled
    moved = kinematics.hub_velocities(maps, twist)
    # the short way from straight ahead: a wheel that would go backward does
    way = np.where(moved[:, 0] < -1e-12, -1.0, 1.0)
    steered = np.array([w.steered for w in rig.chassis.wheels])
    return np.where(steered, way * np.hypot(moved[:, 0], moved[:, 1]), rolled)


def side(rig: Rig, left: bool) -> tuple[float, float]:
    """Return the middle of the wheels of a side, in m."""
    wheels = [w for w in rig.chassis.wheels if (w.y_m > 1e-9 if left else w.y_m < -1e-9)]
    if not wheels:
        return 0.0, 0.0
    return sum(w.x_m for w in wheels) / len(wheels), sum(w.y_m for w in wheels) / len(wheels)
