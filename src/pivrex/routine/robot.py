"""What a routine may use of a rig: its sensors and attachments by name, the abilities of its wheels, and its encoders."""

from __future__ import annotations

from functools import cached_property
from math import pi

import numpy as np

from pivrex.line.kinematics import kinematics_of
from pivrex.rig.attachments import PLACES, Reach, reach_of
from pivrex.rig.rig import Rig
from pivrex.routine.forms import READINGS
from pivrex.routine.kinds import ANGLE, LENGTH, NUMBER, TIME, VOLTS, Kind

__all__ = ["RobotWords"]

_OWN = {"heading": ANGLE, "x": LENGTH, "y": LENGTH, "time": TIME, "battery": VOLTS}


class RobotWords:
    """A rig as a routine sees it.

    Attributes
    ----------
    readings : dict of str to Kind
        Every name that has a value of its own.
    attachments : dict of str to str
        The kind of each: motor, position, lift, servo or switch.
    sensors : dict of str to str
        The kind of each: ranger or lamp.
    can_left : bool
        Whether the wheels can go sideways.
    by_field : bool
        Whether its law knows directions of the field.
    has_gyro : bool
        Whether a gyro corrects its heading.
    """

    def __init__(self, rig: Rig) -> None:
        self.rig = rig
        self.attachments = {name: a.kind for name, a in rig.attachments.items() if not getattr(a, "shows", "")}
        self.sensors: dict[str, str] = {name: s.kind for name, s in rig.sensors.items()}
        self.readings: dict[str, Kind] = {n: k for n, k in _OWN.items() if n != "battery" or rig.battery.sensed}
        self.readings |= {n: LENGTH if kind == "ranger" else NUMBER for n, kind in self.sensors.items()}
        self.readings |= {n: self.place(n) for n, kind in self.attachments.items() if kind in PLACES}
        self.can_left = rig.chassis.geometry.can(np.array([0.0, 1.0, 0.0]))
        self.by_field = self.can_left and rig.law.kind == "planar"
        self.has_gyro = rig.gyro is not None and rig.correction is not None
        self.wheels = [w.name for w in rig.chassis.wheels]
        assert set(_OWN) == set(READINGS)

    def wheels_of(self, side: str) -> tuple[int, ...]:
        """Return the places of the driven wheels of a side of a two-sided chassis."""
        sign = 1 if side == "left" else -1
        return tuple(i for i, w in enumerate(self.rig.chassis.wheels) if w.y_m * sign > 0)

    @cached_property
    def half_track_m(self) -> float:
        """How far the wheels of a side stand from the middle line."""
        return float(np.mean([abs(w.y_m) for w in self.rig.chassis.wheels]))

    @cached_property
    def metres_per_turn(self) -> float:
        """How far a turn of a wheel carries the robot."""
        return float(np.mean([2 * pi * w.radius_m for w in self.rig.chassis.wheels]))

    @cached_property
    def metres_per_count(self) -> float:
        """The distance of one encoder count; 0 if no encoder counts."""
        each = [m.counts_per_wheel_turn for m in self.rig.motors.values()]
        return self.metres_per_turn / float(np.mean(each)) if each and all(each) else 0.0

    @cached_property
    def metres_per_radian(self) -> float:
        """How far each wheel rolls while the robot turns on the spot by a radian."""
        maps = kinematics_of(self.rig.chassis)
        if maps.hubs is not None:
            return float(np.mean([np.hypot(w.x_m, w.y_m) for w in self.rig.chassis.wheels]))
        return float(np.mean(np.abs(maps.inverse[:, 2])))

    def per_count(self, name: str) -> float:
        """How far an attachment moves for a count of its encoder, in rad or m; 0 if it has none."""
        counts = getattr(self.rig.attachments[name], "counts_per_turn", 0.0)
        return 2 * pi / counts * self.reach(name).per_rad if counts else 0.0

    def place(self, name: str) -> Kind:
        """The kind of an attachment's positions."""
        return ANGLE if self.reach(name).unit == "rad" else LENGTH

    def reach(self, name: str) -> Reach:
        """How far an attachment goes."""
        return reach_of(self.rig.attachments[name])
