"""Motions of a rigid body in the plane, SE(2): the exponential of a twist, and the twist that goes straight.

(Lynch & Park, Modern Robotics, ch. 3.)
"""

from __future__ import annotations

from typing import Any

import numpy as np

from pivrex.kernels.engines import Call
from pivrex.kernels.maths import cos, div, sin
from pivrex.kernels.records import Numbers
from pivrex.kernels.subset import kernel
from pivrex.line.layout import Floats

__all__ = ["along", "displaced", "move", "move_along", "shift", "straighten", "straightened"]

SMALL_RAD = 1e-6
_TINY = 1e-160
DUST_RAD = 1e-9
"""A turn of less is rounding; the sine of less is the angle itself."""


@kernel
def displaced(heading: float, forward: float, left: float, turn: float) -> tuple[float, float]:
    """Return how far a body gets along the field's x and y, in m, by a displacement in its own directions.

    Notes
    -----
    The exponential on SE(2). With θ the turn, the body moves by V·(forward, left) where
    V = [[sin θ/θ, -(1 - cos θ)/θ], [(1 - cos θ)/θ, sin θ/θ]]: exact for a constant twist. Below 1e-6 rad the ratios are 1 and θ/2.
    """
    a, b = 1.0, 0.5 * turn
    if not abs(turn) < SMALL_RAD:
        a, b = div(sin(turn), turn), div(1.0 - cos(turn), turn)
    ahead, sideways = a * forward - b * left, b * forward + a * left
    c, s = cos(heading), sin(heading)
    return c * ahead - s * sideways, s * ahead + c * sideways


@kernel
def move_pose(pose: Numbers, displacement: Numbers, moved: Numbers) -> None:
    """Write a pose moved by a displacement in its own directions: pose · exp(displacement)."""
    dx, dy = displaced(pose[2], displacement[0], displacement[1], displacement[2])
    moved[0], moved[1], moved[2] = pose[0] + dx, pose[1] + dy, pose[2] + displacement[2]


_MOVE = Call(move_pose, ("moved",))


def move(pose: Floats, displacement: Floats) -> Floats:
    """Return poses, B + (3,), moved by displacements, B + (3,): pose · exp(displacement).

    A pose is x and y in m and the heading in rad, unwrapped; a displacement is a twist times time, forward and left in m, turn in rad.
    """
    pose, displacement = np.broadcast_arrays(pose, displacement)
    moved = np.empty(pose.shape)
    _MOVE(pose.shape[:-1], np.ascontiguousarray(pose), np.ascontiguousarray(displacement), moved)
    return moved


def along(heading: Any, forward: Any, left: Any, turn: Any) -> tuple[Any, Any]:
    """Return `displaced` of floats, or of arrays of one shape."""
    if not isinstance(turn, np.ndarray):
        return displaced(heading, forward, left, turn)
    still = np.zeros((*turn.shape, 3))
    still[..., 2] = heading
    ends = move(still, np.stack((forward, left, turn), axis=-1))
    return ends[..., 0], ends[..., 1]


def move_along(pose: Floats, displacements: Floats) -> Floats:
    """Return a pose, (3,), before and after each of N displacements, (N, 3), one after another: (N + 1, 3)."""
    poses = np.empty((len(displacements) + 1, 3))
    poses[0] = pose
    _MOVE.in_order((len(displacements),), poses[:-1], np.ascontiguousarray(displacements), poses[1:])
    return poses


@kernel
def straightened(turn: float) -> tuple[float, float]:
    """Return the angle and the factor by which a velocity is turned and stretched so that a body that turns by ``turn``, in rad, meanwhile
    is displaced along the commanded direction.

    Notes
    -----
    The logarithm: with θ the turn, V turns by θ/2 and shortens by sin(θ/2)/(θ/2).
    """
    half = 0.5 * turn
    if abs(half) < DUST_RAD:
        return half, 1.0
    return half, div(half, sin(half))


def straighten(turn_rad: Floats) -> tuple[Floats, Floats]:
    """Return the angle and the factor by which a velocity is turned and stretched so that a body that turns by
    ``turn_rad``, B, meanwhile is displaced along the commanded direction.

    Notes
    -----
    The logarithm: with θ the turn, V turns by θ/2 and shortens by sin(θ/2)/(θ/2).
    """
    half = turn_rad * 0.5 + _TINY  # no turn would be 0/0; nothing else notices it
    return half, half / np.sin(half)


def shift(twist: Floats, x_m: Floats | float, y_m: Floats | float) -> Floats:
    """Return the centre's twist, B + (3,), from that of a point (x, y in m, B): v_centre = v_point - ω × r."""
    moved = np.array(twist, np.float64)
    moved[..., 0] += twist[..., 2] * y_m
    moved[..., 1] -= twist[..., 2] * x_m
    return moved
