"""Steps that drive, in the table of a routine on a board: the values of their motions."""

from __future__ import annotations

from math import inf

import numpy as np

from pivrex.board.steps import words as b
from pivrex.board.steps.table import Label, Table, Value
from pivrex.line.kinematics import kinematics_of
from pivrex.routine import watching as w
from pivrex.routine.kinds import COUNTS, LENGTH, NUMBER, TIME, TURNS, Kind
from pivrex.routine.planning import FAR_M, SPINNING, TIGHTEST_M
from pivrex.routine.program import MotionStep

__all__ = ["Motions"]


class Motions:
    """Turns steps that drive into the values of their motions. Like `pivrex.routine.planning.Planner`, but most numbers are known only when
    the step begins.
    """

    def __init__(self, table: Table) -> None:
        self.table, self.planner, self.words, self.line = table, table.planner, table.words, table.line
        self.one, self.two, self.checked = table.of_one, table.of_two, table.checked

    def put(self, step: MotionStep) -> None:
        """Put the values of a motion, and what begins it."""
        whole, seconds = self._amount(step)
        if step.shape == "wheels":
            self._wheels(step, whole, seconds)
        elif step.shape == "turn" and step.kind == LENGTH:
            self._by_wheels(step, whole)
        elif step.shape in SPINNING:
            self._spin(step, whole, seconds)
        else:
            self._straight(step, whole, seconds)

    def _move(
        self, step: MotionStep, numbers: tuple[Value, ...], spins: bool = False, field: bool = False, arc: bool = False
    ) -> None:
        """Put a motion: forward, left and turn of a unit of its way, how far, how fast, how that rises, and how long."""
        for one in numbers:
            self.table.push(one)
        self.table.ways |= {name for name, is_so in (("spins", spins), ("field", field), ("arc", arc)) if is_so}
        self.table.put(b.MOTION, int(spins), 2 if step.gyro is None else int(step.gyro), int(field), int(arc))

    def _amount(self, step: MotionStep) -> tuple[Value, Value]:
        """Return the way in m or rad, and the time; infinite where it has none."""
        limit, whole = step.limit, inf
        most: Value = inf
        if limit.most is not None and limit.kind != TIME:
            most = self.two(w.MOST, 0.0, self.checked(limit.most))
        if step.amount is None:
            return most, whole
        amount = self.two(w.MOST, 0.0, self.checked(step.amount))
        if step.kind == TIME:
            return most, self.two(w.MOST, amount, self.line.dt_s)
        way = self.two(w.LEAST, self._in_si(step, amount, step.kind), FAR_M)
        return (way if most == inf else self.two(w.LEAST, most, way)), inf

    def _in_si(self, step: MotionStep, amount: Value, kind: Kind) -> Value:
        words = self.words
        if kind not in (COUNTS, TURNS):
            return amount
        way = self.two(w.TIMES, amount, words.metres_per_count if kind == COUNTS else words.metres_per_turn)
        match step.shape:
            case "turn":
                return self.two(w.OVER, way, words.metres_per_radian)
            case "pivot":
                return self.two(w.OVER, way, words.half_track_m)
            case "bend":
                return self.two(w.OVER, way, self._radius(step))
        return way

    def _radius(self, step: MotionStep) -> Value:
        return self.two(w.MOST, self.checked(step.values["radius"]), TIGHTEST_M)

    def _speed(self, step: MotionStep, own: int, full: float) -> Value:
        """Return how fast a step goes; ``own``: the place of what counts where it does not say."""
        if step.speed is None:
            return [(b.OWN, own)]
        found = self.one(w.SIZE, self.checked(step.speed))
        return self.two(w.MOST, self.two(w.TIMES, found, full) if step.speed_kind == NUMBER else found, 1e-4)

    def _sign(self, value: Value) -> Value:
        """Return 1 for what is not below 0, else -1."""
        return self.two(w.MINUS, self.two(w.TIMES, self.two(w.MORE_SAME, value, 0.0), 2.0), 1.0)

    def _wheels(self, step: MotionStep, whole: Value, seconds: Value) -> None:
        shares: dict[int, Value] = {}
        for wheels, share in step.shares:
            limited = self.two(w.LEAST, self.two(w.MOST, self.checked(share), -1.0), 1.0)
            shares |= dict.fromkeys(wheels, limited)
        for k in range(len(self.line.wheels)):
            self._wheel(k, shares.get(k, 0.0), whole)
        self.table.push(seconds)
        self.table.ways.add("raw")
        self.table.put(b.WHEELS)

    def _wheel(self, k: int, share: Value, far: Value) -> None:
        self.table.push(share)
        self.table.push(far)
        self.table.put(b.WHEEL, k)

    def _by_wheels(self, step: MotionStep, way: Value) -> None:
        """Put a turn on the spot that ends by how far the wheels roll."""
        rolls = kinematics_of(self.line.rig.chassis).inverse[:, 2] * step.spin
        speed = self._speed(step, b.OWN_TURN, self.planner.full_turn)
        for k, (roll, top) in enumerate(zip(rolls.tolist(), self.line.top_m_s.tolist(), strict=True)):
            share = self.two(w.OVER, self.two(w.TIMES, speed, roll), top)
            share = self.two(w.LEAST, self.two(w.MOST, share, -1.0), 1.0)
            far = abs(roll) / float(np.abs(rolls).max())
            self._wheel(k, share, way if way == inf else self.two(w.TIMES, way, far))
        self.table.push(inf)
        self.table.ways.add("raw")
        self.table.put(b.WHEELS)

    def _spin(self, step: MotionStep, whole: Value, seconds: Value) -> None:
        """Put a turn, a pivot or a bend: its way is measured in rad."""
        spin: Value = float(step.spin)
        rise: Value = self.planner.turn_acceleration
        forward: Value = 0.0
        if step.shape == "bend":
            radius = self._radius(step)
            most = self.two(w.OVER, self._speed(step, b.OWN_DRIVE, self.planner.full_forward), radius)
            rise = self.two(w.LEAST, rise, self.two(w.OVER, self.planner.rise, radius))
            forward = self.two(w.TIMES, float(step.forward), radius)
        else:
            most = self._speed(step, b.OWN_TURN, self.planner.full_turn)
        if step.shape == "pivot":
            forward = step.left * step.spin * self.words.half_track_m
        if step.shape in ("turn to", "toward"):
            angle = self._angle_to(step)
            spin, whole = self._sign(angle), self.one(w.SIZE, angle)
        self._move(step, (forward, 0.0, spin, whole, most, rise, seconds), spins=True, arc=step.shape == "bend")

    def _looks(self, angle: Value) -> Value:
        """Return how far to turn until the robot looks there, the shorter way."""
        return self.one(b.WRAP, self.two(w.MINUS, angle, [(b.LOOKS, 0)]))

    def _away(self, step: MotionStep) -> tuple[Value, Value]:
        """Return how far a place is from the robot, along x and y."""
        self.table.needs_place()
        dx, dy = (self.two(w.MINUS, self.checked(step.values[n]), [(w.POSE, k)]) for k, n in enumerate(("x", "y")))
        return dx, dy

    def _angle_to(self, step: MotionStep) -> Value:
        if step.shape == "turn to":
            return self._looks(self.checked(step.values["angle"]))
        dx, dy = self._away(step)
        is_away = self.two(w.MORE, self.two(b.AWAY, dx, dy), 1e-3)
        return self.two(w.TIMES, self._looks(self.two(b.ANGLE_OF, dy, dx)), is_away)

    def _straight(self, step: MotionStep, whole: Value, seconds: Value) -> None:
        """Put a motion straight on, along a direction of the field, or to a place."""
        most, rise = self._speed(step, b.OWN_DRIVE, self.planner.full_forward), self.planner.rise
        if step.shape == "straight":
            self._move(step, (float(step.forward), float(step.left), 0.0, whole, most, rise, seconds))
            return
        if step.shape == "along":
            angle = self.checked(step.values["direction"])
            ahead, left = self.one(b.COSINE, angle), self.one(b.SINE, angle)
            self._move(step, (ahead, left, 0.0, whole, most, rise, seconds), field=True)
            return
        dx, dy = self._away(step)
        if self.words.by_field:
            self._to_place(step, dx, dy, most)
            return
        along = self.two(w.TIMES, dx, self.one(b.COSINE, [(w.POSE, 2)]))
        along = self.two(w.PLUS, along, self.two(w.TIMES, dy, self.one(b.SINE, [(w.POSE, 2)])))
        self._move(step, (self._sign(along), 0.0, 0.0, self.one(w.SIZE, along), most, rise, seconds))

    def _to_place(self, step: MotionStep, dx: Value, dy: Value, most: Value) -> None:
        """Put a motion to a place, straight on and with a turn; only the turn where the robot is there already."""
        table, way = self.table, self.two(b.AWAY, dx, dy)
        turn = self._looks(self.checked(step.values["facing"])) if "facing" in step.values else 0.0
        there, end = Label(), Label()
        table.push(self.two(w.MORE_SAME, way, 1e-3))
        table.put(b.UNLESS, there)
        ways = [self.two(w.OVER, one, way) for one in (dx, dy, turn)]
        self._move(step, (*ways, way, most, self.planner.rise, inf), field=True)
        table.put(b.JUMP, end)
        table.label(there)
        turns: tuple[Value, ...] = (
            0.0,
            0.0,
            self._sign(turn),
            self.one(w.SIZE, turn),
            [(b.OWN, b.OWN_TURN)],
            self.planner.turn_acceleration,
            inf,
        )
        self._move(step, turns, spins=True)
        table.label(end)
