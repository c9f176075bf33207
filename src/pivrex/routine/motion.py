"""The motions of routines: how each begins and ends. `pivrex.routine.profile` computes its ticks."""

from __future__ import annotations

from dataclasses import dataclass
from math import exp, pi

import numpy as np

from pivrex.kernels.maths import inf, nan
from pivrex.kernels.records import Form
from pivrex.line.line import Line
from pivrex.line.stage import Floats
from pivrex.rig.motors import Motor
from pivrex.routine.profile import (
    ANY_M_S,
    NEAR_M,
    PATIENCE_S,
    PULL_PER_S,
    SWAYING_PATIENCE_S,
    SWAYING_PULL_PER_S,
    SWAYS_M_S,
    SWAYS_NEAR_M,
    ProfileSettings,
    ProfileState,
)
from pivrex.routine.robot import RobotWords

__all__ = ["Motion", "begin", "begin_plan", "end", "profile_settings", "rest", "straight_of", "turn_of", "wrapped"]

CREEP = 1.25
"""Above the smallest drive that turns a wheel, and above the smallest that its driver can take."""


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
    jump : float
        By how much the heading that it keeps jumps as it begins, in rad.
    shares : (W,) float64 or None
        Of each wheel's top speed, instead of all others.
    far : (W,) float64 or float
        How far each wheel rolls then, in m; infinite for those that end by something else.
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
    jump: float = 0.0
    shares: Floats | None = None
    far: Floats | float = inf


def profile_settings(line: Line, words: RobotWords) -> ProfileSettings:
    """Return how the motions of a rig go.

    Notes
    -----
    The target goes along the way by a trapezoid: its rate grows by rise·dt up to the most, and is never more than that from
    which it can still stop (Biagiotti & Melchiorri, Trajectory Planning, ch. 3). The robot follows with the rig's lag τ, so the
    way it should have come is that target through ref' = (target' - ref')/τ; what it has not come of that is pulled in at
    `PULL_PER_S`. A turn with the gyro has no such pull: its heading is aimed at, and the correction does it; of a bend
    what is missing of the arc's length for what it has turned is pulled in. (Own rules.)
    """
    rig, dt, lag, c = line.rig, line.dt_s, line.rig.lag_s, line.rig.correction
    decay = exp(-dt / lag) if lag > 0 else 0.0
    smallest = max((_least(m) for m in rig.motors.values()), default=0.0)
    sways = (
        rig.balance is not None
    )  # it leans before it drives, and is never quite at rest; its loops overcome friction
    made: ProfileSettings = Form(ProfileSettings, wheels=len(line.wheels)).of(
        dt=dt,
        lag=lag,
        decay=decay,
        memory=lag * (1 - decay),
        tolerance=c.tolerance_rad if c is not None else 0.02,
        within=c.within_s if c is not None else 0.1,
        creep=CREEP * smallest * float(line.top_m_s.min()) * (0.1 if sways else 1.0),
        turns=words.metres_per_radian,
        tops=line.top_m_s,
        controlled=rig.control is not None and rig.control.wheels != "open",
        pull=SWAYING_PULL_PER_S if sways else PULL_PER_S,
        near=SWAYS_NEAR_M if sways else NEAR_M,
        patience=SWAYING_PATIENCE_S if sways else PATIENCE_S,
        still=SWAYS_M_S if sways else ANY_M_S,
    )
    return made


def begin(
    v: ProfileState, motion: Motion, x: Floats | float, y: Floats | float, heading: Floats | float, dt: float
) -> None:
    """Begin a motion of a robot, or of each of a batch, from its estimated pose."""
    course = np.where(np.isnan(v.course) | (not motion.held), heading, v.course) + motion.jump
    v.set(
        active=1.0, planned=0.0, spins=float(motion.spins), held=float(motion.held), field=float(motion.field),
        raw=float(motion.shares is not None), forward=motion.forward, left=motion.left, turn=motion.turn, whole=motion.whole,
        most=motion.most, rise=motion.rise, time_s=motion.time_s, t=0.0, way=0.0, sideways=0.0, rolled=0.0, arc=float(motion.arc),
        rate=-motion.rise * dt / 2, target=0.0, ref=0.0, speed=0.0, late=0.0, near=0.0, stands=0.0,
        course=course, from_x=x, from_y=y, keep=float(motion.held),
    )  # fmt: skip


def rest(v: ProfileState, course: float, keeps: bool) -> None:
    """Let a robot rest, whose motion another made; ``course`` is the gyro's heading to keep, NaN for that of its rest."""
    v.set(active=0.0, planned=0.0, raw=0.0, course=course, keep=float(keeps))


def begin_plan(v: ProfileState) -> None:
    """Begin to follow a plan."""
    rest(v, nan, False)
    v.set(active=1.0, planned=1.0, near=0.0, stands=0.0)


def end(v: ProfileState, heading: float, keeps: bool, whole: bool, looks: float = nan) -> None:
    """End a motion; ``whole`` says that it came to its end, else the robot stands where it is by now. A plan that did ends with the
    gyro's heading ``looks``, NaN for that at which the robot comes to rest.
    """
    course = v.get("course") + v.get("turn") * v.get("target" if whole else "ref")
    if v.get("planned"):
        rest(v, looks if whole else nan, keeps)
        return
    if not v.get("held"):
        course = nan
    elif not whole and v.get("spins"):
        course = heading
    rest(v, course, keeps)


def turn_of(line: Line, angle_rad: float) -> Motion:
    """Return the turn on the spot by an angle, to the left if it is above 0, as the rig's correction says."""
    c, rig = line.rig.correction, line.rig
    most, rise = (c.turn_rate_rad_s, c.turn_acceleration_rad_s2) if c is not None else (0.0, 6.0)
    sign = -1.0 if angle_rad < 0 else 1.0
    return Motion(True, turn=sign, whole=abs(angle_rad), most=most or rig.full_turn_rad_s / 2, rise=rise)


def straight_of(line: Line, distance_m: float, held: bool = True, speed_m_s: float = 0.0) -> Motion:
    """Return the drive straight on, back if it is below 0, at half of the full speed, as the rig's correction says."""
    c = line.rig.correction
    sign, rise = -1.0 if distance_m < 0 else 1.0, c.drive_acceleration_m_s2 if c is not None else 1.0
    most = speed_m_s or line.rig.full_forward_m_s / 2
    return Motion(forward=sign, whole=abs(distance_m), most=most, rise=rise, held=held)


def _least(motor: Motor) -> float:
    """Return the smallest drive that does something."""
    bits = getattr(motor.output, "bits", 0)
    return max(motor.smallest, 1 / (2**bits - 1) if bits else 0.0)


def wrapped(angle: float) -> float:
    """Return an angle within (-π, π]."""
    return pi - (pi - angle) % (2 * pi)
