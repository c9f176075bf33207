"""The motions of routines, tick by tick, for one robot or many: a speed profile, what is felt of it, and what is asked for."""

from __future__ import annotations

import copy
from dataclasses import dataclass
from math import exp, pi

import numpy as np
from numpy.typing import NDArray

from pivrex.kernels.engines import Call
from pivrex.kernels.maths import inf, is_nan, nan
from pivrex.kernels.records import Form
from pivrex.line.line import Line
from pivrex.line.stage import Floats
from pivrex.rig.motors import Motor
from pivrex.routine.profile import Command, Felt, ProfileSettings, ProfileState, command_motion, feel_motion
from pivrex.routine.robot import RobotWords

__all__ = ["Motion", "Motions", "wrapped"]

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


_FEEL, _COMMAND = Call(feel_motion, ("v", "done")), Call(command_motion, ("v", "out"))


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
        self._batch = batch
        rig, words = line.rig, RobotWords(line.rig)
        dt, lag, c = line.dt_s, line.rig.lag_s, line.rig.correction
        decay = exp(-dt / lag) if lag > 0 else 0.0
        self.tolerance_rad = c.tolerance_rad if c is not None else 0.02
        smallest = max((_least(m) for m in rig.motors.values()), default=0.0)
        settings = Form(ProfileSettings).of(
            dt=dt,
            lag=lag,
            decay=decay,
            memory=lag * (1 - decay),
            tolerance=self.tolerance_rad,
            within=c.within_s if c is not None else 0.1,
            creep=CREEP * smallest * float(line.top_m_s.min()),
            turns=words.metres_per_radian,
        )
        self._dt = dt
        self._feel, self._command = _FEEL.after(settings), _COMMAND.after(settings)
        self.state: ProfileState = Form(ProfileState).of(batch, keep=float(words.has_gyro), course=nan)
        self.shares: Floats = np.zeros((*batch, len(line.wheels)))

    def copied(self) -> Motions:
        """Return a copy that goes its own way."""
        made = copy.copy(self)
        made.state, made.shares = self.state._replace(), self.shares.copy()
        return made

    def get(self, i: int, name: str) -> float:
        """Return a number of one robot."""
        value = getattr(self.state, name)
        return float(value[i] if self._batch else value)

    def _set(self, i: int, **values: float) -> None:
        for name, value in values.items():
            getattr(self.state, name)[(i,) if self._batch else ()] = value

    def begin(self, i: int, motion: Motion, x: float, y: float, heading: float) -> None:
        """Begin a motion of one robot, which believes to be there."""
        course = self.get(i, "course")
        if is_nan(course) or not motion.held:
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
        """Let one robot rest, whose motion another made; ``course`` is the gyro's heading to keep, NaN for that of its rest."""
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

    def feel(self, felt: Felt) -> NDArray[np.bool_]:
        """Take in what was measured; gives which robots have come to the end of their motion, B bool."""
        done = np.zeros((*self._batch, 1))
        self._feel(self._batch, felt, self.state, done)
        return done[..., 0] > 0

    def command(self, felt: Felt) -> Command:
        """Return what is asked for in this tick."""
        out: Command = Form(Command).start(self._batch)
        self._command(self._batch, felt, self.state, out)
        return out


def _least(motor: Motor) -> float:
    """Give the smallest drive that does something."""
    bits = getattr(motor.output, "bits", 0)
    return max(motor.smallest, 1 / (2**bits - 1) if bits else 0.0)


def wrapped(angle: float) -> float:
    """Give an angle within (-π, π]."""
    return pi - (pi - angle) % (2 * pi)
