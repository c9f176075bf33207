"""Turns a step that drives into a motion for one robot at its pose: its distance, its speed, its time."""

from __future__ import annotations

from dataclasses import dataclass, replace
from math import atan2, cos, hypot, inf, isfinite, sin, sqrt

import numpy as np

from pivrex.line.kinematics import kinematics_of
from pivrex.line.line import Line
from pivrex.path import Path
from pivrex.path.bounds import max_speed
from pivrex.path.plan import Plan, plan_of, troubles
from pivrex.path.points import path_through
from pivrex.routine.kinds import COUNTS, LENGTH, NUMBER, TIME, TURNS, Kind
from pivrex.routine.motion import Motion, wrapped
from pivrex.routine.program import FollowStep, MotionStep
from pivrex.routine.robot import RobotWords
from pivrex.routine.values import FaultError, Seen, value_of

__all__ = ["Planner", "Standing", "number", "slower", "time_of"]

FAR_M = 1e3
TIGHTEST_M = 0.02
SPINNING = ("turn", "turn to", "toward", "pivot", "bend")


@dataclass
class Standing:
    """The robot's estimated pose when a step begins, the direction that it holds, and what counts for it now.

    Attributes
    ----------
    x, y, heading : float
    looks : float
        The direction of the field that it should look in; its heading where it holds none.
    drive, turn : float
        How fast it goes where a step says nothing, m/s and rad/s.
    gyro : bool
    """

    x: float
    y: float
    heading: float
    looks: float
    drive: float
    turn: float
    gyro: bool


def number(value: object, seen: Seen, what: str) -> float:
    """Return a value that must be there. Raises `FaultError`."""
    found = value_of(value, seen)  # type: ignore[arg-type]
    if not isfinite(found):
        raise FaultError(f"{what} has no value: nothing was sensed")
    return found


class Planner:
    """Plans for the robots of a line."""

    def __init__(self, line: Line, words: RobotWords) -> None:
        self._line, self._words = line, words
        c = line.rig.correction
        self.rise = c.drive_acceleration_m_s2 if c is not None else 1.0
        self.turn_acceleration = c.turn_acceleration_rad_s2 if c is not None else 6.0
        self.full_forward, self.full_turn = line.rig.full_forward_m_s, line.rig.full_turn_rad_s
        self.turn = (c.turn_rate_rad_s if c is not None else 0.0) or self.full_turn / 2
        self.drive = self.full_forward / 2
        self._plans: dict[Path, Plan] = {}

    def plan_path(self, step: FollowStep, seen: Seen, at: Standing) -> Plan:
        """Return the plan of a path that is followed: the same for all that follow it. Raises `FaultError`."""
        path = step.path
        if path is None:
            places = [(number(x, seen, "x"), number(y, seen, "y")) for x, y in step.places]
            path = path_through(at.x, at.y, at.heading, self._words.can_left, places)
        if step.speed is not None:
            fast = self._speed(step, seen, 0.0, self.full_forward)
            path = path.model_copy(update={"speed_m_s": min(fast, max_speed(path, self._line.rig))})
        if path not in self._plans:
            plan = plan_of(path, self._line.rig)
            hard = [what for kept, what in troubles(plan, self._line.rig, None) if kept]
            if hard:
                raise FaultError(f"the path {hard[0]}")
            self._plans[path] = plan
        return self._plans[path]

    def max_way(self, step: MotionStep, seen: Seen) -> float:
        """Return how far a step goes at most, in m; infinite if it does not say."""
        return self._amount(step, seen)[0]

    def plan(self, step: MotionStep, seen: Seen, at: Standing) -> Motion:
        """Return the motion of a step. Raises `FaultError`."""
        held = at.gyro if step.gyro is None else step.gyro
        whole, seconds = self._amount(step, seen)
        if step.shape == "wheels":
            shares = np.zeros(len(self._line.wheels))
            for wheels, share in step.shares:
                shares[list(wheels)] = min(max(number(share, seen, "the share"), -1.0), 1.0)
            return Motion(time_s=seconds, held=False, shares=shares, far=np.full(len(shares), whole))
        if step.shape == "turn" and step.kind == LENGTH:
            return self._by_wheels(step, seen, at, whole)
        plain = Motion(whole=whole, rise=self.rise, time_s=seconds, held=held)
        if step.shape in SPINNING:
            return self._spin(step, seen, at, plain)
        plain = replace(plain, most=self._speed(step, seen, at.drive, self.full_forward))
        if step.shape == "straight":
            return replace(plain, forward=float(step.forward), left=float(step.left))
        return self._across(step, seen, at, plain)

    @staticmethod
    def _speed(step: MotionStep, seen: Seen, otherwise: float, full: float) -> float:
        if step.speed is None:
            return otherwise
        found = abs(number(step.speed, seen, "the speed"))
        return max(found * full if step.speed_kind == NUMBER else found, 1e-4)

    def _by_wheels(self, step: MotionStep, seen: Seen, at: Standing, way_m: float) -> Motion:
        """Return a turn on the spot that ends by how far the wheels roll: those that roll farthest, so far."""
        rolls = kinematics_of(self._line.rig.chassis).inverse[:, 2] * step.spin
        shares = rolls * self._speed(step, seen, at.turn, self.full_turn) / self._line.top_m_s
        return Motion(held=False, shares=np.clip(shares, -1, 1), far=way_m * np.abs(rolls) / np.abs(rolls).max())

    def _spin(self, step: MotionStep, seen: Seen, at: Standing, plain: Motion) -> Motion:
        """Return a turn, a pivot or a bend: its way is measured in rad."""
        spin, whole, forward = step.spin, plain.whole, 0.0
        rise, most = self.turn_acceleration, 0.0
        if step.shape == "bend":
            radius = max(number(step.values["radius"], seen, "the radius"), TIGHTEST_M)
            most = self._speed(step, seen, at.drive, self.full_forward) / radius
            rise, forward = min(rise, self.rise / radius), step.forward * radius
        else:
            most = self._speed(step, seen, at.turn, self.full_turn)
        if step.shape == "pivot":
            forward = step.left * step.spin * self._words.half_track_m
        if step.shape in ("turn to", "toward"):
            angle = self._angle_to(step, seen, at)
            spin, whole = (1 if angle >= 0 else -1), abs(angle)
        arc = step.shape == "bend"
        return replace(plain, spins=True, forward=forward, turn=float(spin), whole=whole, most=most, rise=rise, arc=arc)

    def _across(self, step: MotionStep, seen: Seen, at: Standing, plain: Motion) -> Motion:
        """Return the motion along a direction of the field, or to a place."""
        if step.shape == "along":
            angle = number(step.values["direction"], seen, "the direction")
            return replace(plain, forward=cos(angle), left=sin(angle), field=True)
        dx, dy = (number(step.values[n], seen, n) - v for n, v in (("x", at.x), ("y", at.y)))
        way = hypot(dx, dy)
        if not self._words.by_field:
            # it has turned to it already; the distance to its line cannot be driven
            ahead = dx * cos(at.heading) + dy * sin(at.heading)
            return replace(plain, forward=1.0 if ahead >= 0 else -1.0, whole=abs(ahead))
        turn = wrapped(number(step.values["facing"], seen, "facing") - at.looks) if "facing" in step.values else 0.0
        if way < 1e-3:
            sign = 1.0 if turn >= 0 else -1.0
            return replace(plain, spins=True, turn=sign, whole=abs(turn), most=at.turn, rise=self.turn_acceleration)
        return replace(plain, forward=dx / way, left=dy / way, turn=turn / way, whole=way, field=True)

    @staticmethod
    def _angle_to(step: MotionStep, seen: Seen, at: Standing) -> float:
        """Return how far to turn, the shorter way."""
        if step.shape == "turn to":
            return wrapped(number(step.values["angle"], seen, "where it looks") - at.looks)
        dx, dy = (number(step.values[n], seen, n) - v for n, v in (("x", at.x), ("y", at.y)))
        return wrapped(atan2(dy, dx) - at.looks) if hypot(dx, dy) > 1e-3 else 0.0

    def _amount(self, step: MotionStep, seen: Seen) -> tuple[float, float]:
        """Return the way in m or rad, and the time; infinite where it has none."""
        limit, whole = step.limit, inf
        if limit.most is not None and limit.kind != TIME:
            whole = max(0.0, number(limit.most, seen, "the limit"))
        if step.amount is None:
            return whole, inf
        amount = max(0.0, number(step.amount, seen, "how far"))
        if step.kind == TIME:
            return whole, max(amount, self._line.dt_s)
        return min(whole, self._in_si(step, seen, amount, step.kind), FAR_M), inf

    def _in_si(self, step: MotionStep, seen: Seen, amount: float, kind: Kind) -> float:
        """Return an amount that encoders count in m, or in rad of the turn that such wheels make."""
        words = self._words
        if kind not in (COUNTS, TURNS):
            return amount
        way = amount * (words.metres_per_count if kind == COUNTS else words.metres_per_turn)
        match step.shape:
            case "turn":
                return way / words.metres_per_radian
            case "pivot":  # the wheels of one side stand, those of the other roll twice as far as the middle
                return way / words.half_track_m
            case "bend":
                return way / max(number(step.values["radius"], seen, "the radius"), TIGHTEST_M)
        return way


def time_of(motion: Motion) -> float:
    """Return how long a trapezoid takes, in s."""
    if motion.time_s < inf:
        return motion.time_s
    if motion.shares is not None:
        return 0.0
    if not motion.whole < inf:
        return 0.0
    if motion.whole >= motion.most * motion.most / motion.rise:
        return motion.whole / motion.most + motion.most / motion.rise
    return 2 * sqrt(motion.whole / motion.rise)


def slower(motion: Motion, seconds: float) -> Motion:
    """Return a motion that takes so long: with a lower top of its trapezoid, v = (a·T - √(a²T² - 4·a·way))/2."""
    if motion.time_s < inf:
        return replace(motion, time_s=max(motion.time_s, seconds))
    a, t = motion.rise, seconds
    under = a * a * t * t - 4 * a * motion.whole
    if under <= 0 or not motion.whole < inf:
        return motion
    return replace(motion, most=max((a * t - sqrt(under)) / 2, 1e-3))
