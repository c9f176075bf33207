"""Frame: whose forward counts, about which point the robot turns, and which side of it is up."""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from pivrex.line.levels import PRESSED
from pivrex.rig.rig import Rig

__all__ = ["FrameSettings", "FrameState", "orient", "robot_twist", "settings_of", "to_robot", "turn_about"]

Floats = NDArray[np.float64]

_TINY = 1e-160

BUTTONS = ("plane.switch", "plane.forward", "plane.next_point")
"""The keys of the rig that name the buttons of this stage."""

SWITCH, FORWARD = 0, 1


@dataclass(frozen=True)
class FrameSettings:
    """How a rig moves in the plane.

    Attributes
    ----------
    field : bool
        Whether the field's forward counts at the start.
    straight : bool
        Whether the turn of each tick is reckoned in.
    lead_s : float
        How far ahead of now the heading is taken, for motors that lag.
    points : (Q, 2) float64
        Turning points in m; the centre first.
    gyro_sign : float
        1, or -1 for a gyro that counts the other way; 0 without a gyro.
    threshold, up_sign : float
        Of the sensor that says which side is up, in g; ``up_sign`` is 0 without one.
    buttons : tuple of int
        Which of `BUTTONS` there are; E of them.
    """

    field: bool
    straight: bool
    lead_s: float
    points: Floats
    gyro_sign: float
    threshold: float
    up_sign: float
    buttons: tuple[int, ...]


class FrameState(NamedTuple):
    """What the frame remembers; numbers are of shape B.

    Attributes
    ----------
    begun : whether there has been a tick, of any shape B alike.
    gyro : what the gyro said last, in rad.
    heading : the heading as seen from above, in rad, unwrapped.
    zero : the heading that is the field's forward direction.
    field : 1 while the field's forward counts.
    point : index of the turning point.
    over : 1 while the robot lies on its back.
    buttons : B + (E,), what the buttons read last.
    """

    begun: bool
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
        lead_s=plane.lead_s,
        points=np.array([(0.0, 0.0), *((p.x_m, p.y_m) for p in plane.points)]),
        gyro_sign=0.0 if gyro is None else -1.0 if gyro.reversed else 1.0,
        threshold=up.threshold if up is not None else 0.0,
        up_sign=0.0 if up is None else -1.0 if up.reversed else 1.0,
        buttons=tuple(i for i, key in enumerate(BUTTONS) if key in rig.buttons()),
    )


def start(settings: FrameSettings, batch: tuple[int, ...]) -> FrameState:
    """Give the state before the first tick."""
    none = np.zeros(batch)
    field = np.full(batch, float(settings.field))
    return FrameState(False, none, none, none, field, none, none, np.zeros((*batch, len(settings.buttons))))


def orient(settings: FrameSettings, state: FrameState, buttons: Floats, gyro: Floats, up: Floats) -> FrameState:
    """Take in the gyro, the side sensor and the buttons.

    Parameters
    ----------
    settings : FrameSettings
    state : FrameState
    buttons : B + (E,) float64
        What the buttons read; NaN and 0 count as not pressed.
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
        over = np.where(level < -settings.threshold, 1.0, np.where(level > settings.threshold, 0.0, over))
    heading = state.heading
    if settings.gyro_sign and not state.begun:
        heading = gyro * settings.gyro_sign
    elif settings.up_sign:
        heading = heading + np.where(over > 0, -settings.gyro_sign, settings.gyro_sign) * (gyro - state.gyro)
    elif settings.gyro_sign:
        heading = heading + settings.gyro_sign * (gyro - state.gyro)
    field, zero, point = state.field, state.zero, state.point
    pressed = buttons >= PRESSED
    if np.count_nonzero(pressed):
        fresh = pressed & ~(state.buttons >= PRESSED)
        for at, button in enumerate(settings.buttons):
            now = fresh[..., at]
            if button == SWITCH:
                field = np.where(now, 1.0 - field, field)
            elif button == FORWARD:
                zero = np.where(now, heading, zero)
            else:
                point = np.where(now, (point + 1) % len(settings.points), point)
    return FrameState(True, gyro, heading, zero, field, point, over, buttons)


def robot_twist(settings: FrameSettings, state: FrameState, twist: Floats, dt_s: float) -> Floats:
    """Turn the law's twist, B + (3,), of the turning point into that of the robot's centre, relative to the robot."""
    by_field = np.count_nonzero(state.field)
    if by_field:
        turned = to_robot(twist, state.heading - state.zero, dt_s if settings.straight else 0.0, settings.lead_s)
        twist = turned if by_field == state.field.size else np.where(state.field[..., None] > 0, turned, twist)
    if np.count_nonzero(state.point):
        twist = turn_about(twist, settings.points[state.point.astype(np.intp)])
    return twist


def to_robot(twist: Floats, heading_rad: float | Floats, dt_s: float = 0.0, lead_s: float = 0.0) -> Floats:
    """Turn a field-relative twist into the robot-relative one that keeps to the asked direction all through a tick.

    Parameters
    ----------
    twist : B + (3,) float64
        Velocity along the field's directions, and the rate of turn.
    heading_rad : B float64
        Of the robot at the beginning of the tick.
    dt_s : float
        The tick's length; with 0 the twist is right only at its beginning, and the path drifts aside by half of the
        tick's turn.
    lead_s : float
        Takes the heading this much later: wheels that follow with a lag do now what was asked that long ago, when the
        robot stood otherwise.

    Returns
    -------
    B + (3,) float64

    Notes
    -----
    The logarithm on SE(2). With θ = ω·dt a constant twist (u, ω) moves the body by V·u·dt, where V turns by θ/2 and
    shortens by sin(θ/2)/(θ/2); so u is the velocity turned by -(heading + θ/2), times (θ/2)/sin(θ/2). (Lynch & Park,
    Modern Robotics, ch. 3, with V written as a turn and a factor.)
    """
    angle = heading_rad
    gain: float | Floats = 1.0
    if dt_s:
        half = twist[..., 2] * (dt_s * 0.5) + _TINY  # no turn at all would be 0/0; nothing else feels it
        angle = angle + half
        gain = half / np.sin(half)
    if lead_s:
        angle = angle + twist[..., 2] * lead_s
    c, s = np.cos(angle) * gain, np.sin(angle) * gain
    turned = np.array(twist, np.float64)
    turned[..., 0] = c * twist[..., 0] + s * twist[..., 1]
    turned[..., 1] = c * twist[..., 1] - s * twist[..., 0]
    return turned


def turn_about(twist: Floats, point: Floats) -> Floats:
    """Give the centre's twist, B + (3,), from that of a point (x, y in m, B + (2,)): v_centre = v_point - ω × r."""
    moved = np.array(twist, np.float64)
    moved[..., 0] += twist[..., 2] * point[..., 1]
    moved[..., 1] -= twist[..., 2] * point[..., 0]
    return moved
