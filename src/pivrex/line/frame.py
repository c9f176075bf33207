"""Frame: whose forward counts, about which point the robot turns, and which side of it is up."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from pivrex.line.levels import PRESSED
from pivrex.rig.rig import Rig

__all__ = ["FrameSettings", "FrameState", "keep_straight", "orient", "robot_twist", "settings_of", "to_robot", "turn_about"]

Floats = NDArray[np.float64]

BUTTONS = ("plane.switch", "plane.forward", "plane.next_point")
"""The keys of the rig that name the buttons of this stage."""


@dataclass(frozen=True)
class FrameSettings:
    """How a rig moves in the plane.

    Attributes
    ----------
    field : bool
        Whether the field's forward counts at the start.
    straight : bool
        Whether the turn of each tick is reckoned in.
    points : (Q, 2) float64
        Turning points in m; the centre first.
    gyro_sign : float
        1, or -1 for a gyro that counts the other way; 0 without a gyro.
    threshold, up_sign : float
        Of the sensor that says which side is up, in g; ``up_sign`` is 0 without one.
    """

    field: bool
    straight: bool
    points: Floats
    gyro_sign: float
    threshold: float
    up_sign: float


@dataclass(frozen=True)
class FrameState:
    """What the frame remembers, each of shape B.

    Attributes
    ----------
    gyro : NaN before the first tick, then what the gyro said last, in rad.
    heading : the heading as seen from above, in rad, unwrapped.
    zero : the heading that is the field's forward direction.
    field : 1 while the field's forward counts.
    point : index of the turning point.
    over : 1 while the robot lies on its back.
    buttons : B + (3,), what the buttons of `BUTTONS` read last.
    """

    gyro: Floats
    heading: Floats
    zero: Floats
    field: Floats
    point: Floats
    over: Floats
    buttons: Floats


def settings_of(rig: Rig) -> FrameSettings:
    """Take the frame's settings from a rig."""
    plane, gyro, up = rig.plane, rig.gyro, rig.upside_down
    return FrameSettings(
        field=plane.frame == "field",
        straight=plane.straight == "on",
        points=np.array([(0.0, 0.0), *((p.x_m, p.y_m) for p in plane.points)]),
        gyro_sign=0.0 if gyro is None else -1.0 if gyro.reversed else 1.0,
        threshold=up.threshold if up is not None else 0.0,
        up_sign=0.0 if up is None else -1.0 if up.reversed else 1.0,
    )


def start(settings: FrameSettings, batch: tuple[int, ...]) -> FrameState:
    """Give the state before the first tick."""
    none = np.zeros(batch)
    return FrameState(
        np.full(batch, np.nan), none, none, np.full(batch, float(settings.field)), none, none, np.zeros((*batch, 3))
    )


def orient(settings: FrameSettings, state: FrameState, buttons: Floats, gyro: Floats, up: Floats) -> FrameState:
    """Take in the gyro, the side sensor and the buttons.

    Parameters
    ----------
    settings : FrameSettings
    state : FrameState
    buttons : B + (3,) float64
        What the buttons of `BUTTONS` read; NaN and 0 count as not pressed.
    gyro : B float64
        The gyro's heading in rad, unwrapped, as the sensor counts; 0 without one.
    up : B float64
        The upward acceleration in g, as the sensor reads; 1 without one.

    Returns
    -------
    FrameState

    Notes
    -----
    The first heading is taken as it is, later ones are added up by their changes: on its back a robot that turns left as
    seen from above turns right for its own gyro. The side changes only when the sensor has passed the threshold on the
    other side of zero.
    """
    over = state.over
    if settings.up_sign:
        level = up * settings.up_sign
        over = np.where(level < -settings.threshold, 1.0, np.where(level > settings.threshold, 0.0, state.over))
    heading = state.heading
    if settings.gyro_sign:
        sense = settings.gyro_sign * np.where(over > 0, -1.0, 1.0) if settings.up_sign else settings.gyro_sign
        fresh = np.isnan(state.gyro)
        heading = np.where(fresh, gyro * settings.gyro_sign, heading + sense * (gyro - np.where(fresh, gyro, state.gyro)))
    field, zero, point = state.field, state.zero, state.point
    pressed = buttons >= PRESSED
    if np.count_nonzero(pressed):
        fresh_press = pressed & ~(state.buttons >= PRESSED)
        field = np.where(fresh_press[..., 0], 1.0 - field, field)
        zero = np.where(fresh_press[..., 1], heading, zero)
        point = np.where(fresh_press[..., 2], (point + 1) % len(settings.points), point)
    return FrameState(gyro, heading, zero, field, point, over, buttons)


def robot_twist(settings: FrameSettings, state: FrameState, twist: Floats, dt_s: float) -> Floats:
    """Turn the law's twist, B + (3,), of the turning point into that of the robot's centre, relative to the robot."""
    turned = to_robot(twist, state.heading - state.zero)
    if settings.straight:
        turned = keep_straight(turned, dt_s)
    relative = np.where(state.field[..., None] > 0, turned, twist)
    return turn_about(relative, settings.points[state.point.astype(np.intp)])


def to_robot(twist: Floats, heading_rad: float | Floats) -> Floats:
    """Turn a field-relative twist, B + (3,), into the robot-relative one: its velocity rotated by -heading."""
    c, s = np.cos(heading_rad), np.sin(heading_rad)
    turned = np.array(twist, np.float64)
    turned[..., 0] = c * twist[..., 0] + s * twist[..., 1]
    turned[..., 1] = c * twist[..., 1] - s * twist[..., 0]
    return turned


def keep_straight(twist: Floats, dt_s: float) -> Floats:
    """Give the constant twist that ends a tick where the asked velocity, held in the field's directions, would.

    Parameters
    ----------
    twist : B + (3,) float64
        Relative to the robot as it stands at the beginning of the tick.
    dt_s : float

    Returns
    -------
    B + (3,) float64

    Notes
    -----
    The logarithm on SE(2): with θ = ω·dt, a = sin θ/θ and b = (1 - cos θ)/θ the constant twist (u, ω) moves the body by
    V·u·dt, V = [[a, -b], [b, a]]; so u = V⁻¹·v = [[a, b], [-b, a]]·v/(a² + b²). Without it the path drifts aside by about
    half of each tick's turn, θ/2. (Lynch & Park, Modern Robotics, ch. 3.)
    """
    theta = twist[..., 2] * dt_s
    small = np.abs(theta) < 1e-6
    safe = np.where(small, 1.0, theta)
    a = np.where(small, 1.0, np.sin(safe) / safe)
    b = np.where(small, theta / 2, (1 - np.cos(safe)) / safe)
    square = a * a + b * b
    straight = np.array(twist, np.float64)
    straight[..., 0] = (a * twist[..., 0] + b * twist[..., 1]) / square
    straight[..., 1] = (a * twist[..., 1] - b * twist[..., 0]) / square
    return straight


def turn_about(twist: Floats, point: Floats) -> Floats:
    """Give the centre's twist, B + (3,), from that of a point (x, y in m, B + (2,)): v_centre = v_point - ω × r."""
    moved = np.array(twist, np.float64)
    moved[..., 0] += twist[..., 2] * point[..., 1]
    moved[..., 1] -= twist[..., 2] * point[..., 0]
    return moved
