"""Where robots with a real body are and how they move."""

from __future__ import annotations

from typing import NamedTuple

from pivrex.line.stage import Floats
from pivrex.sim.body.sensors import GyroState

__all__ = ["BodyState"]


class BodyState(NamedTuple):
    """Where B stand-ins with a real body are and how they move; D driving motors, C contacts with the floor.

    Attributes
    ----------
    pose, blocked, angle, turning, begin, lifted, upside_down, attached, travel, speed
        As `pivrex.sim.stand_in.StandInState` has them; speed is the tyres' own, whatever the floor does.
    velocity : B + (3,) float64
        Of the mass centre, forward and left in m/s, and the rate of turn in rad/s, as seen from above.
    spin : B + (D,) float64
        Of each motor at its wheels' axle, in rad/s.
    fed : B + (D,) float64
        The drive that each motor was given last, in [-1, 1].
    torque : B + (D,) float64
        What turned each wheel in the last step beside friction, in N·m.
    felt : B + (2,) float64
        The acceleration that shifts the load, forward and left, in m/s².
    charge, volts, restart : B float64
        Of the battery from 0 to 1, in V, and how long the electronics still take to start again in s.
    counted, metered : B + (W,) float64
        How far wheels have rolled as encoders count it, in m, and the speeds that they say, in m/s.
    gyro : GyroState
    slip, load : B + (C,) float64
        How fast each tyre slides over the floor in m/s, and the load on it in N.
    """

    travel: Floats
    speed: Floats
    pose: Floats
    blocked: Floats
    angle: Floats
    turning: Floats
    begin: Floats
    lifted: Floats
    upside_down: Floats
    attached: Floats
    velocity: Floats
    spin: Floats
    fed: Floats
    torque: Floats
    felt: Floats
    charge: Floats
    volts: Floats
    restart: Floats
    counted: Floats
    metered: Floats
    gyro: GyroState
    slip: Floats
    load: Floats
