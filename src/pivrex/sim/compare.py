"""What a setting of steered and omni robots is worth: the same drive simulated with it and without."""

from __future__ import annotations

from dataclasses import dataclass
from math import cos, radians, sin

import numpy as np
from numpy.typing import NDArray

from pivrex.line import frame
from pivrex.line.line import Line
from pivrex.rig.rig import Rig
from pivrex.sim.motion import move
from pivrex.sim.stand_in import StandIn

__all__ = ["Compared", "compare_cosine", "compare_lead", "compare_straight"]

Floats = NDArray[np.float64]

CROSS_S = 2.0
TURN_S = 1.0


@dataclass(frozen=True)
class Compared:
    """How far a robot gets aside of where it should go, in m, with a setting on and off."""

    on_m: float
    off_m: float


def compare_straight(rig: Rig) -> Compared | None:
    """Cross the field at half speed while spinning at half rate; how far the path gets aside of its straight line.

    With ``plane.straight`` on and off, and no lag, so that what is left is the reckoning's alone. None where the law is
    not planar or there is no gyro.
    """
    if rig.law.kind != "planar" or rig.gyro is None:
        return None
    ideal = rig.model_copy(update={"lag_s": 0.0})
    return Compared(*(_ideal_crossing(_changed(ideal, "plane", straight=s, lead_s=0.0)) for s in ("on", "off")))


def compare_lead(rig: Rig) -> Compared | None:
    """The same with the stand-in's lag: with the rig's ``plane.lead`` and with none."""
    if rig.law.kind != "planar" or rig.gyro is None:
        return None
    return Compared(*(_crossing(_changed(rig, "plane", lead_s=s)) for s in (rig.plane.lead_s, 0.0)))


def compare_cosine(rig: Rig) -> Compared | None:
    """Drive ahead, then at once 70 degrees to the left; how far the path gets aside of the new line.

    With ``steering.cosine`` on and off. None without steered wheels.
    """
    if rig.steering is None or rig.law.kind != "planar":
        return None
    return Compared(*(_cornering(_changed(rig, "steering", cosine=c)) for c in ("on", "off")))


def _changed(rig: Rig, table: str, **values: object) -> Rig:
    inner = getattr(rig, table).model_copy(update=values)
    plain = rig.law.model_copy(update={"full_forward_m_s": None, "full_left_m_s": None, "full_turn_rad_s": None})
    return rig.model_copy(update={table: inner, "law": plain})


class _Drive:
    """A robot on an open floor, told twists in the field's directions as fractions of full."""

    def __init__(self, rig: Rig) -> None:
        framed = rig.model_copy(
            update={"plane": rig.plane.model_copy(update={"frame": "field" if rig.gyro else "robot"})}
        )
        self._line, self._model = Line(framed), StandIn(framed)
        self.state = self._model.start()
        self._after = self._line.start()
        # the highest level, so that a fraction of 1 is full
        self._after = self._after._replace(level=np.array(float(len(self._line.levels) - 1)))

    def go(self, forward: float, left: float, turn: float, seconds: float) -> Floats:
        """Drive for a while past all shaping; gives the path, (N, 3)."""
        path = []
        rated = np.array([forward, left, turn])
        raw, clock = self._line.rest(), np.zeros(3)
        shaped = (rated,) * 4
        for _ in range(round(seconds / self._line.dt_s)):
            path.append(self.state.pose)
            self._after, row = self._line.drive(self._after, clock, self._model.sensed(self.state), raw, shaped, rated)
            self.state = self._model.step(self.state, self._line.told(row).tolist(), self._line.dt_s)
        return np.array(path)


def _ideal_crossing(rig: Rig) -> float:
    """A body that does at once what the frame's stage asks of it."""
    line, pose = Line(rig), (0.0, 0.0, 0.0)
    assert line.frame is not None
    start = frame.start(line.frame, ())
    asked = np.array([0.5 * rig.full_forward_m_s, 0.0, 0.5 * rig.full_turn_rad_s])
    for _ in range(round(CROSS_S / line.dt_s)):
        now = start._replace(heading=np.array(pose[2]), field=np.array(1.0))
        pose = move(pose, *(frame.robot_twist(line.frame, now, asked, line.dt_s) * line.dt_s).tolist())
    return abs(pose[1])


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
