"""The motions of routines, tick by tick, for one robot or many: a speed profile, what is felt of it, and what is asked for."""

from __future__ import annotations

from dataclasses import dataclass
from math import exp, inf, nan, pi
from typing import Any

import numpy as np

from pivrex.line.line import Line
from pivrex.line.stage import Floats
from pivrex.line.values import Ops, Value, ops_of
from pivrex.rig.motors import Motor
from pivrex.routine.robot import RobotWords

__all__ = ["Felt", "Motion", "Motions"]

PULL_PER_S = 4.0
"""What is missing of the way is made up for at this rate."""

ASIDE_PER_S = 4.0
"""So is what the robot stands beside the line that it shall drive, where it can move sideways."""

MOST_PULL_M_S, MOST_PULL_RAD_S = 0.2, 0.6
WAITS_M, WAITS_RAD = 0.12, 0.5
"""A target waits for a robot that is this far behind it."""

NEAR_M = 0.003
STEADY_S = 0.1
SOON_S, PATIENCE_S = 0.5, 1.2
"""At the end of a motion the robot stands at most so long until it is where it should be."""

CATCHES_RAD_S = 0.05
BLIND_TICKS = 2
"""So many ticks after its beginning nothing has been felt of a motion yet."""

CREEP = 1.25
"""Above the smallest drive that turns a wheel, and above the smallest that its driver can be told."""


@dataclass(frozen=True)
class Motion:
    """One robot's motion, as it begins.

    Attributes
    ----------
    spins : bool
        Whether the way is measured in rad of turning instead of m.
    forward, left, turn : float
        What it moves for each unit of the way, in m and rad: along the robot, or of the field where ``field`` is set.
    whole : float
        The way, m or rad; infinite to go by time or until something is true.
    most, rise : float
        How fast at most, and how fast that may change, in units/s and units/s².
    time_s : float
        How long at most; infinite for as long as it takes.
    held : bool
        Whether the gyro keeps the heading.
    field : bool
        Whether the way is a direction of the field.
    arc : bool
        Whether the length of what it drives while it turns counts too.
    shares : (W,) float64 or None
        Of each wheel's top speed, instead of all others.
    """

    spins: bool = False
    forward: float = 0.0
    left: float = 0.0
    turn: float = 0.0
    whole: float = inf
    most: float = 0.5
    rise: float = 1.0
    time_s: float = inf
    held: bool = True
    field: bool = False
    arc: bool = False
    shares: Floats | None = None


@dataclass
class Felt:
    """What robots felt since the last tick, a `Value` each: the displacement in their own directions and the field's, where they
    believe to be, the gyro's heading and that from the frame's forward.
    """

    forward: Value
    left: Value
    turn: Value
    along_x: Value
    along_y: Value
    x: Value
    y: Value
    heading: Value
    offset: Value
    ahead: Value


_STATE = (
    "active", "spins", "held", "field", "raw", "forward", "left", "turn", "whole", "most", "rise", "time_s",  # the motion
    "t", "way", "rate", "target", "ref", "speed", "late", "near", "stands", "course", "keep", "from_x", "from_y", "aside",
    "rolled", "arc",
)  # fmt: skip


class Motions:
    """At most one motion of each robot.

    Notes
    -----
    The target goes along the way by a trapezoid: its rate grows by rise·dt up to the most, and is never more than that from
    which it can still stop (Biagiotti & Melchiorri, Trajectory Planning, ch. 3). The robot follows with the rig's lag τ, so the
    way it should have come is that target through ref' = (target' - ref')/τ; what it has not come of that is pulled in at
    `PULL_PER_S`. A turn with the gyro has no such pull: its heading is aimed at, and the correction does it; of a bend
    what is missing of the arc's length for what it has turned is pulled in. (Own rules.)
    """

    def __init__(self, line: Line, batch: tuple[int, ...]) -> None:
        self._line, self._batch = line, batch
        self._ops: Ops = ops_of(batch)
        rig, words = line.rig, RobotWords(line.rig)
        self._dt = line.dt_s
        lag = rig.lag_s
        self._decay = exp(-self._dt / lag) if lag > 0 else 0.0
        self._memory = lag * (1 - self._decay)
        self._lag = lag
        c = rig.correction
        self.tolerance_rad = c.tolerance_rad if c is not None else 0.02
        self._within = c.within_s if c is not None else 0.1
        smallest = max((_least(m) for m in rig.motors.values()), default=0.0)
        self._creep = CREEP * smallest * float(line.top_m_s.min())
        self._turns = words.metres_per_radian
        self.v: dict[str, Value] = {n: self._full(0.0) for n in _STATE}
        self.v["keep"] = self._full(1.0 if words.has_gyro else 0.0)
        self.v["course"] = self._full(nan)
        self.shares: Floats = np.zeros((*batch, len(line.wheels)))

    def _full(self, value: float) -> Value:
        return np.full(self._batch, value) if self._batch else value

    def get(self, i: int, name: str) -> float:
        """Give a number of one robot."""
        return float(self.v[name][i]) if self._batch else self.v[name]

    def _set(self, i: int, **values: float) -> None:
        for name, value in values.items():
            if self._batch:
                self.v[name][i] = value
            else:
                self.v[name] = value

    def begin(self, i: int, motion: Motion, x: float, y: float, heading: float) -> None:
        """Begin a motion of one robot, which believes to be there."""
        course = self.get(i, "course")
        if course != course or not motion.held:  # noqa: PLR0124 - NaN is not itself
            course = heading
        raw = motion.shares is not None
        if motion.shares is not None:
            self.shares[(i,) if self._batch else ...] = motion.shares
        self._set(
            i, active=1.0, spins=float(motion.spins), held=float(motion.held), field=float(motion.field), raw=float(raw),
            forward=motion.forward, left=motion.left, turn=motion.turn, whole=motion.whole, most=motion.most, rise=motion.rise,
            time_s=motion.time_s, t=0.0, way=0.0, aside=0.0, rolled=0.0, arc=float(motion.arc), rate=-motion.rise * self._dt / 2,
            target=0.0, ref=0.0, speed=0.0, late=0.0, near=0.0, stands=0.0,
            course=course, from_x=x, from_y=y, keep=float(motion.held),
        )  # fmt: skip

    def rest(self, i: int, course: float, keeps: bool) -> None:
        """Let one robot rest, whose motion somebody else made; ``course`` is the gyro's heading to keep, NaN for that of its rest."""
        self._set(i, active=0.0, raw=0.0, course=course, keep=float(keeps))

    def end(self, i: int, heading: float, keeps: bool, whole: bool = True) -> None:
        """End a motion of one robot; ``whole`` says that it came to its end, else it stands where it is by now."""
        held, turn = self.get(i, "held"), self.get(i, "turn")
        course = self.get(i, "course")
        way = self.get(i, "target" if whole else "ref")
        course = course + turn * way
        if not held:
            course = nan
        elif not whole and self.get(i, "spins"):
            course = heading
        self._set(i, active=0.0, raw=0.0, course=course, keep=float(keeps))

    def missing(self, i: int) -> float:
        """How far a motion of one robot has come of what it should by now: what is missing, in its unit."""
        return self.get(i, "late") - self.get(i, "way")

    # --- a tick ---

    def feel(self, felt: Felt) -> Any:
        """Take in what was felt; gives which robots have come to the end of their motion, B bool."""
        o, v = self._ops, self.v
        along = felt.forward * v["forward"] + felt.left * v["left"]
        on_field = felt.along_x * v["forward"] + felt.along_y * v["left"]
        spins = v["spins"] > 0
        gone = o.where(spins, felt.turn * v["turn"], o.where(v["field"] > 0, on_field, along))
        felt_yet = v["t"] > (BLIND_TICKS - 0.5) * self._dt
        v["way"] = v["way"] + o.where(felt_yet, gone, 0.0)
        v["rolled"] = v["rolled"] + o.where(felt_yet, felt.forward, 0.0)
        # a heading that nobody has aimed at yet is that at which the robot comes to rest
        slow = (abs(felt.turn) < CATCHES_RAD_S * self._dt) & (v["active"] == 0)
        caught = o.where(slow, felt.heading, nan)
        v["course"] = o.where(v["course"] == v["course"], v["course"], caught)
        target = v["course"] + v["turn"] * o.where(v["whole"] < inf, v["whole"], 0.0)
        off = abs(target - felt.heading)
        there = (abs(v["whole"] - v["target"]) < 1e-9) & (v["active"] > 0)
        # at first it shall look quite exactly where it should; friction may keep it from that, so not for ever
        fine = o.where(v["stands"] < SOON_S, self.tolerance_rad / 8, self.tolerance_rad)
        looks = (v["held"] == 0) | (off < fine)
        missing = abs(v["whole"] - v["way"])
        aside = (felt.y - v["from_y"]) * v["forward"] - (felt.x - v["from_x"]) * v["left"]
        v["aside"] = o.where(v["field"] > 0, aside, 0.0)
        stands = abs(v["speed"]) * self._lag < o.where(spins, 0.004, 0.0006)
        apart = o.where(spins, o.where(v["held"] > 0, 0.0, missing), o.most(missing, abs(v["aside"])))
        close = apart < o.where(spins, fine, NEAR_M)
        arcs = (v["arc"] > 0) & (v["held"] > 0)
        round_ = o.no(arcs) | (abs(v["forward"] * o.least(v["whole"], 1e6) - v["rolled"]) < NEAR_M)
        near = there & looks & close & stands & round_
        v["near"] = o.where(near, v["near"] + self._dt, 0.0)
        v["stands"] = o.where(there, v["stands"] + self._dt, 0.0)
        within = o.where(spins, self._within, STEADY_S)
        done = there & ((v["near"] > within - 1e-9) | (v["stands"] > PATIENCE_S))
        timed = v["t"] > v["time_s"] - self._dt / 2
        return (v["active"] > 0) & (done | timed)

    def command(self, felt: Felt) -> tuple[Value, ...]:
        """Give what is asked for in this tick: forward and left in m/s, turn in rad/s, the heading to aim at, NaN for none, how
        fast that moves, and whose forward it means, 1 the robot's, 2 the field's.
        """
        o, v, dt = self._ops, self.v, self._dt
        spins, active = v["spins"] > 0, v["active"] > 0
        v["t"] = o.where(active, v["t"] + dt, v["t"])
        moves = active & (v["raw"] == 0)
        missing = v["late"] - v["way"]
        pulled = o.no(spins) | (v["held"] == 0)
        rate = o.where(moves, self._rate(missing, pulled), 0.0)
        v["rate"] = rate
        rest = v["whole"] - v["target"]
        v["target"] = o.where(rate * dt >= rest - 1e-12, v["whole"], v["target"] + rate * dt)
        v["late"] = v["ref"]
        moves_at = v["turn"] * o.where(moves, v["speed"], 0.0)
        gap = v["speed"] - rate
        v["ref"] = o.where(moves, v["ref"] + (rate * dt + gap * self._memory), v["ref"])
        v["speed"] = o.where(moves, rate + gap * self._decay, 0.0)
        most = o.where(spins, MOST_PULL_RAD_S, MOST_PULL_M_S)
        pull = o.where(moves & pulled & (v["whole"] < inf), o.within(PULL_PER_S * missing, most), 0.0)
        asked = rate + pull
        at_end = moves & pulled & (v["whole"] <= v["target"])
        if o.some(at_end):
            asked = o.where(at_end, self._at_end(felt), asked)
        forward, left = v["forward"] * asked, v["left"] * asked
        turn = v["turn"] * o.where(v["held"] > 0, rate, asked)
        arcs = moves & (v["arc"] > 0) & (v["held"] > 0) & (v["whole"] < inf)
        if o.some(arcs):
            forward = o.where(arcs, forward + self._round(v["forward"] * v["way"] - v["rolled"]), forward)
        field = moves & (v["field"] > 0)
        if o.some(field):
            forward, left = self._on_field(felt, field, forward, left)
        aims = ((v["held"] > 0) & moves) | (o.no(active) & (v["keep"] > 0))
        aim = o.where(aims, v["course"] + o.where(moves, v["turn"] * v["late"], 0.0), nan)
        zero = self._full(0.0)
        return (
            o.where(moves, forward, zero), o.where(moves, left, zero), o.where(moves, turn, zero), aim, moves_at,
            o.where(field, 2.0, 1.0),
        )  # fmt: skip

    def _rate(self, missing: Value, pulled: Value) -> Value:
        """Give how fast the target goes, in units/s."""
        o, v, dt = self._ops, self.v, self._dt
        spins = v["spins"] > 0
        rest = o.most(v["whole"] - v["target"], 0.0)
        half = 0.5 * v["rise"] * dt
        far = o.least(rest, 1e6)
        stops = o.sqrt(half * half + 2 * v["rise"] * far) - half
        left_s = o.least(v["time_s"] - v["t"], 1e6)
        most = o.least(v["most"], o.most(v["rise"] * (left_s + dt / 2), 0.0))
        gap = o.where(spins, WAITS_RAD, WAITS_M)
        waits = o.where(pulled, o.least(o.most(2.0 - missing / gap, 0.0), 1.0), 1.0)
        rate = o.least(o.least(v["rate"] + v["rise"] * dt, most * waits), stops)
        creep = o.where(spins, self._creep / self._turns, self._creep)
        rate = o.most(rate, o.least(creep, most))
        # the last tick takes what is left: a little more than a creeping one, so that none is too small to turn a wheel
        return o.where((rate * dt >= rest) | (rest < 1.5 * creep * dt), rest / dt, rate)

    def _at_end(self, felt: Felt) -> Value:
        """Give what brings a robot that shall stand the last bit: no less than what turns a wheel, and in time none of it."""
        o, v = self._ops, self.v
        spins = v["spins"] > 0
        along = felt.forward * v["forward"] + felt.left * v["left"]
        on_field = felt.along_x * v["forward"] + felt.along_y * v["left"]
        speed = o.where(spins, felt.turn * v["turn"], o.where(v["field"] > 0, on_field, along)) / self._dt
        missing = v["whole"] - v["way"] - speed * (self._lag + self._dt)
        near = o.where(spins, self.tolerance_rad / 10, NEAR_M / 3)
        creep = o.where(spins, self._creep / self._turns, self._creep)
        asked = o.most(abs(PULL_PER_S * missing), creep)
        asked = o.where(missing < 0, -asked, asked)
        return o.where(abs(missing) > near, asked, 0.0)

    def _round(self, missing: Value) -> Value:
        """Give what brings a robot on along its arc, in m/s; at its end no less than what turns a wheel, and in time none of it."""
        o, v = self._ops, self.v
        pull = o.within(PULL_PER_S * missing, MOST_PULL_M_S)
        least = o.most(abs(pull), self._creep)
        at_end = o.where(abs(missing) > NEAR_M / 3, o.where(missing < 0, -least, least), 0.0)
        return o.where(v["whole"] <= v["target"], at_end, pull)

    def _on_field(self, felt: Felt, field: Value, forward: Value, left: Value) -> tuple[Value, Value]:
        """Add what brings a robot back onto its line, and turn all of it to the frame's forward."""
        o, v = self._ops, self.v
        back = o.within(-ASIDE_PER_S * v["aside"], MOST_PULL_M_S)
        x, y = forward - v["left"] * back, left + v["forward"] * back
        c, s = o.turned(felt.ahead - (felt.heading + felt.offset))
        return o.where(field, c * x - s * y, forward), o.where(field, s * x + c * y, left)


def _least(motor: Motor) -> float:
    """Give the smallest drive that does something."""
    bits = getattr(motor.output, "bits", 0)
    return max(motor.smallest, 1 / (2**bits - 1) if bits else 0.0)


def wrapped(angle: float) -> float:
    """Give an angle within (-π, π]."""
    return pi - (pi - angle) % (2 * pi)
