"""Corrects the pose by a landmark: a wall that the robot touches squarely, or the distance that a ranger measures to one."""

from __future__ import annotations

from math import cos, hypot, pi, radians, sin
from typing import NamedTuple

import numpy as np

from pivrex.line.odometry import Odometry, OdometryState
from pivrex.line.seeing import FAR_M, Seeing
from pivrex.line.stage import Floats
from pivrex.rig.field import Field
from pivrex.rig.rig import Rig
from pivrex.rig.sensors import Ranger

__all__ = ["SIDES", "Mark", "NoMarkError", "nearest_mark", "range_mark", "take", "touched", "wall_mark"]

SIDES = {"ahead": 0.0, "left": pi / 2, "behind": pi, "right": -pi / 2}
"""The sides of a robot, by the angle from its nose."""

SQUARE_RAD = radians(30)
"""A robot that is further askew by its estimate does not stand squarely against a wall."""

INSIDE_M = 0.001
TOUCH_M, TOUCH_RAD = 0.006, radians(1.0)
"""How well a wall that is touched is known, one sigma: skirting, bent bumpers."""

REACH_M = 0.5
"""A wall that is further away by the estimate is not the one that is touched."""

AT_HAND_M = 0.12
"""One that is no further away by the estimate than this is."""

WALL_M = 0.005
"""How well a wall's own place is known to a ranger, one sigma."""

FITS = 4.0
"""How many sigma a reading may be off; beyond it means something else."""

STEP_M, STEP_RAD = 0.002, 0.003
EDGE = 40.0
"""A range that changes by more than this for each metre, or rad, is at an edge."""


class NoMarkError(Exception):
    """There is nothing to be known by; the message says why, in words."""


class Mark(NamedTuple):
    """M numbers that were measured, against the belief.

    Attributes
    ----------
    by : str
        What they are known by.
    names : (M,) of str
        What each is, with its unit.
    across : (M, 3) float64
        How each changes with x, y (m) and heading (rad).
    measured, estimated : (M,) float64
        In m or rad.
    variance : (M,) float64
    """

    by: str
    names: tuple[str, ...]
    across: Floats
    measured: Floats
    estimated: Floats
    variance: Floats


def _seeing(rig: Rig, field: Field | None) -> Seeing:
    if field is None:
        raise NoMarkError("there is no field whose walls could be known by")
    return Seeing(rig, field)


def wall_mark(rig: Rig, field: Field | None, pose: Floats, side: str) -> Mark:
    """Return what a wall, or a block's side, says that is touched squarely with a side of the robot.

    Parameters
    ----------
    rig : Rig
    field : Field or None
    pose : (3,) float64
        The robot's estimated pose.
    side : str
        Of `SIDES`.

    Raises
    ------
    NoMarkError
        If it does not stand squarely by its estimate before anything near.
    """
    seeing = _seeing(rig, field)
    looks = float(pose[2]) + SIDES[side]
    square = round(looks / (pi / 2)) * (pi / 2)
    askew = looks - square
    if abs(askew) > SQUARE_RAD:
        raise NoMarkError(
            f"its estimated heading is {abs(np.degrees(askew)):.0f} deg off square: no wall is touched squarely {side}"
        )
    c, s = round(cos(square)), round(sin(square))
    assert field is not None
    # from a robot's length behind, within the walls: a robot whose wheels spun may be inside what stopped it by its estimate
    back = max(rig.chassis.length_m, rig.chassis.width_m)
    x, y = (
        min(max(float(pose[k]) - back * d, INSIDE_M), most - INSIDE_M) if field.walls else float(pose[k]) - back * d
        for k, d, most in ((0, c, field.length_m), (1, s, field.width_m))
    )
    along, sign = (0, c) if c else (1, s)
    wall = (x, y)[along] + sign * seeing.along(x, y, float(c), float(s))
    way = (wall - float(pose[along])) * sign
    half = (rig.chassis.length_m if side in ("ahead", "behind") else rig.chassis.width_m) / 2
    if way - half > REACH_M:
        far = f"{way - half:.2f} m away" if way < FAR_M / 2 else "nowhere"
        raise NoMarkError(f"by the estimated pose the nearest wall {side} is {far}: it is not the one that is touched")
    across = np.zeros((2, 3))
    across[0, along], across[1, 2] = 1.0, 1.0
    return Mark(
        f"the wall {side}",
        ("x m" if along == 0 else "y m", "heading deg"),
        across,
        np.array([wall - sign * half, float(pose[2]) - askew]),
        np.array([float(pose[along]), float(pose[2])]),
        np.array([TOUCH_M**2, TOUCH_RAD**2]),
    )


def range_mark(rig: Rig, field: Field | None, pose: Floats, name: str, reading_m: float) -> Mark:
    """Return what a ranger's reading says, against what it would read at the estimated pose.

    Raises
    ------
    NoMarkError
        If it hears no echo, sees nothing from there, or meets an edge.

    Notes
    -----
    How the range changes with the pose is taken from small steps either way, so whatever stands there is fit (the extended
    Kalman filter's Jacobian; Thrun, Burgard & Fox, Probabilistic Robotics, ch. 3.3).
    """
    seeing = _seeing(rig, field)
    sensor = rig.sensors[name]
    if not isinstance(sensor, Ranger):
        raise NoMarkError(f'"{name}" is no ranger')
    if not sensor.shortest_m < reading_m <= sensor.longest_m:
        raise NoMarkError(f"{name} hears no echo")
    k = list(rig.sensors).index(name)
    steps = np.zeros((7, 3))
    for j, step in enumerate((STEP_M, STEP_M, STEP_RAD)):
        steps[1 + 2 * j, j], steps[2 + 2 * j, j] = step, -step
    ways = seeing.sense(pose + steps)[:, k]
    if not (ways > 0).all():
        raise NoMarkError(f"at the estimated pose {name} would hear nothing")
    across = np.array([(ways[1 + 2 * j] - ways[2 + 2 * j]) / (2 * steps[1 + 2 * j, j]) for j in range(3)])
    if hypot(across[0], across[1]) > 2.5 or abs(across[2]) > EDGE:
        raise NoMarkError(f"{name} looks at an edge: its range says nothing sure")
    return Mark(
        name, ("range m",), across[None], np.array([reading_m]), ways[:1], np.array([sensor.noise_m**2 + WALL_M**2])
    )


def touched(rig: Rig, field: Field | None, pose: Floats, within_m: float) -> str:
    """Return the side with which a robot touches, by its estimate, a wall squarely, empty for none: the nearest within a distance."""
    best, nearest = "", within_m
    for side in SIDES:
        try:
            mark = wall_mark(rig, field, pose, side)
        except NoMarkError:
            continue
        gap = abs(float(mark.measured[0] - mark.estimated[0]))
        if gap < nearest:
            best, nearest = side, gap
    return best


def take(stage: Odometry, own: OdometryState, mark: Mark) -> tuple[OdometryState, str]:
    """Let a robot, no batch, take in a mark; returns its odometry's state, and in words what came of it with the gain of each number.

    A gain of 0.8 says that the belief went 80 % of the way to what was measured.

    Raises
    ------
    NoMarkError
        If a number is off by more than chance explains: it means something else, and nothing is taken in.
    """
    before, said = own.pose.copy(), []
    for k, name in enumerate(mark.names):
        estimated = float(mark.estimated[k] + mark.across[k] @ (own.pose - before))
        off = float(mark.measured[k]) - estimated
        own, gain, expected = stage.updated(own, mark.across[k], off, float(mark.variance[k]))
        what, _, unit = name.rpartition(" ")
        shown = [np.degrees(v) if unit == "deg" else v for v in (mark.measured[k], estimated)]
        digits = 1 if unit == "deg" else 3
        if abs(off) > FITS * np.sqrt(expected) + (0.1 if unit == "deg" else 0.15):
            raise NoMarkError(
                f"{mark.by} does not fit: {what} {shown[0]:.{digits}f} {unit} measured, {shown[1]:.{digits}f} {unit} estimated; "
                "say where it is first"
            )
        taken = float(mark.across[k] @ gain)
        said.append(
            f"{what} {shown[0]:.{digits}f} {unit}, estimated {shown[1]:.{digits}f} {unit}, gain {abs(taken):.2f}"
        )
    return own, f"known by {mark.by}: " + "; ".join(said)


def nearest_mark(rig: Rig, field: Field | None, pose: Floats, readings: dict[str, float]) -> Mark:
    """Return the mark that is at hand: a wall that it touches, else what a ranger says.

    Raises
    ------
    NoMarkError
        If there is none.
    """
    side = touched(rig, field, pose, AT_HAND_M)
    if side:
        return wall_mark(rig, field, pose, side)
    why = "no wall is within reach of the estimated pose, and no ranger looks at one"
    for name, reading in readings.items():
        try:
            return range_mark(rig, field, pose, name, reading)
        except NoMarkError as no:
            why = f"no wall is within reach of the estimated pose; {no}"
    raise NoMarkError(why)
