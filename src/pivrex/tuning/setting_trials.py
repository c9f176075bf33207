"""The effect of a setting of steered and omni robots: the same drive simulated with it and without."""

from __future__ import annotations

from dataclasses import dataclass
from math import cos, radians, sin

import numpy as np

from pivrex.line import Entry, Line
from pivrex.line.se2 import move
from pivrex.line.stage import Floats
from pivrex.rig.rig import Rig
from pivrex.sim.model import simulator_of
from pivrex.sim.rollout import Rollout

__all__ = ["Compared", "compare_cosine", "compare_lead", "compare_straight"]

CROSS_S = 2.0
TURN_S = 1.0


@dataclass(frozen=True)
class Compared:
    """How far a robot sideways loss of where it should go, in m, with a setting on and off."""

    on_m: float
    off_m: float


def compare_straight(rig: Rig) -> Compared | None:
    """Cross the field at half speed while spinning at half rate; how far the path sideways loss of its straight line.

    With ``plane.straight`` on and off, and no lag, so that what is left is the computing's alone. None where the law is
    not planar or there is no gyro.
    """
    if rig.law.kind != "planar" or rig.gyro is None:
        return None
    ideal = rig.model_copy(update={"lag_s": 0.0})
    return Compared(*(_ideal_crossing(_changed(ideal, "plane", straight=s, lead_s=0.0)) for s in ("on", "off")))


def compare_lead(rig: Rig) -> Compared | None:
    """The same with the simulated robot's lag: with the rig's ``plane.lead`` and with none."""
    if rig.law.kind != "planar" or rig.gyro is None:
        return None
    return Compared(*(_crossing(_changed(rig, "plane", lead_s=s)) for s in (rig.plane.lead_s, 0.0)))


def compare_cosine(rig: Rig) -> Compared | None:
    """Drive forward, then at once 70 degrees to the left, with ``steering.cosine`` on and off: how far the robot is off the new line.

    None without steered wheels.
    """
    if rig.steering is None or rig.law.kind != "planar":
        return None
    return Compared(*(_cornering(_changed(rig, "steering", cosine=c)) for c in ("on", "off")))


def _changed(rig: Rig, table: str, **values: object) -> Rig:
    inner = getattr(rig, table).model_copy(update=values)
    plain = rig.law.model_copy(update={"full_forward_m_s": None, "full_left_m_s": None, "full_turn_rad_s": None})
    return rig.model_copy(update={table: inner, "law": plain})


class _Drive:
    """A robot on an open floor, commanded by twists in the field's directions as shares of full."""

    def __init__(self, rig: Rig) -> None:
        framed = rig.model_copy(
            update={"plane": rig.plane.model_copy(update={"frame": "field" if rig.gyro else "robot"})}
        )
        line = Line(framed)
        self._rollout = Rollout(line, simulator_of(framed))
        self._full = np.array([rig.full_forward_m_s, rig.full_left_m_s, rig.full_turn_rad_s])

    def go(self, forward: float, left: float, turn: float, seconds: float) -> Floats:
        """Drive for a while past all sticks; returns the path, (N, 3)."""
        entry = Entry(twist=np.array([forward, left, turn]) * self._full)
        rest, path = self._rollout.line.rest(), []
        for _ in range(round(seconds / self._rollout.line.dt_s)):
            path.append(self._rollout.robot.pose)
            self._rollout.tick(rest, entry=entry)
        return np.array(path)


def _ideal_crossing(rig: Rig) -> float:
    """A body that does at once what is asked of it, with motors so fast that nothing is taken; its gyro says so."""
    motors = {n: m.model_copy(update={"top_speed_rad_s": 2 * m.top_speed_rad_s}) for n, m in rig.motors.items()}
    line = Line(rig.model_copy(update={"motors": motors, "plane": rig.plane.model_copy(update={"frame": "field"})}))
    state, pose, sensed = line.start(), np.zeros(3), np.zeros(len(line.stages["sensed"].columns))
    entry = Entry(twist=np.array([0.5 * rig.full_forward_m_s, 0.0, 0.5 * rig.full_turn_rad_s]))
    gyro = line.layout.at("sensed", "gyro") - line.layout.stage("sensed").start
    sign = -1.0 if rig.gyro is not None and rig.gyro.reversed else 1.0
    reached = line.layout.these("frame", ("forward", "left", "turn"))
    for _ in range(round(CROSS_S / line.dt_s)):
        sensed[gyro] = sign * pose[2]
        state, row = line.step(state, line.rest(), sensed, entry=entry)
        pose = move(pose, row[reached] * line.dt_s)
    return float(abs(pose[1]))


def _crossing(rig: Rig) -> float:
    drive = _Drive(rig)
    drive.go(0.5, 0.0, 0.5, 0.5)
    path = drive.go(0.5, 0.0, 0.5, CROSS_S)
    return float(abs(path[-1, 1] - path[0, 1]))


def _cornering(rig: Rig) -> float:
    drive, angle = _Drive(rig), radians(70)
    drive.go(0.5, 0.0, 0.0, TURN_S)
    path = drive.go(0.5 * cos(angle), 0.5 * sin(angle), 0.0, TURN_S)
    away = path[-1, :2] - path[0, :2]
    return float(abs(away[0] * sin(angle) - away[1] * cos(angle)))
