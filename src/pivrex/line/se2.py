"""Motions of a rigid body in the plane, SE(2): the exponential of a twist, and what a twist must be to go straight.

(Lynch & Park, Modern Robotics, ch. 3.)
"""

from __future__ import annotations

import numpy as np

from pivrex.line.layout import Floats

__all__ = ["move", "move_along", "shift", "straighten"]

SMALL_RAD = 1e-6
_TINY = 1e-160


def move(pose: Floats, displacement: Floats) -> Floats:
    """Move a pose by a body-frame displacement: pose · exp(displacement).

    Parameters
    ----------
    pose : B + (3,) float64
        x and y in m, heading in rad (unwrapped).
    displacement : B + (3,) float64
        Twist times time: forward and left in m, turn in rad.

    Returns
    -------
    B + (3,) float64

    Notes
    -----
    With θ the turn, the body moves by (V·d) where V = [[sin θ/θ, -(1 - cos θ)/θ], [(1 - cos θ)/θ, sin θ/θ]]: exact for a
    constant twist. Below 1e-6 rad the ratios are 1 and θ/2.
    """
    ahead, aside = _arc(displacement)
    c, s = np.cos(pose[..., 2]), np.sin(pose[..., 2])
    moved = np.empty(np.broadcast_shapes(pose.shape, displacement.shape))
    moved[..., 0] = pose[..., 0] + (c * ahead - s * aside)
    moved[..., 1] = pose[..., 1] + (s * ahead + c * aside)
    moved[..., 2] = pose[..., 2] + displacement[..., 2]
    return moved


def _arc(displacement: Floats) -> tuple[Floats, Floats]:
    """How far the end of an arc lies ahead of its beginning, and to the left."""
    forward, left, turn = displacement[..., 0], displacement[..., 1], displacement[..., 2]
    small = np.abs(turn) < SMALL_RAD
    safe = np.where(small, 1.0, turn)
    a = np.where(small, 1.0, np.sin(safe) / safe)
    b = np.where(small, turn * 0.5, (1.0 - np.cos(safe)) / safe)
    return a * forward - b * left, b * forward + a * left


def move_along(pose: Floats, displacements: Floats) -> Floats:
    """Move a pose, (3,), by one displacement after another, (N, 3); gives it before the first and after each, (N + 1, 3),
    with the bits of `move` used N times.
    """
    ahead, aside = _arc(displacements)
    heading = np.add.accumulate(np.concatenate((pose[2:], displacements[:, 2])))
    c, s = np.cos(heading[:-1]), np.sin(heading[:-1])
    x = np.add.accumulate(np.concatenate((pose[:1], c * ahead - s * aside)))
    y = np.add.accumulate(np.concatenate((pose[1:2], s * ahead + c * aside)))
    return np.stack((x, y, heading), axis=-1)


def straighten(turn_rad: Floats) -> tuple[Floats, Floats]:
    """Give the angle and the factor by which a velocity is turned and stretched so that a body that turns by
    ``turn_rad``, B, meanwhile is displaced along the direction that was asked for.

    Notes
    -----
    The logarithm: with θ the turn, V turns by θ/2 and shortens by sin(θ/2)/(θ/2).
    """
    half = turn_rad * 0.5 + _TINY  # no turn at all would be 0/0; nothing else feels it
    return half, half / np.sin(half)


def shift(twist: Floats, x_m: Floats | float, y_m: Floats | float) -> Floats:
    """Give the centre's twist, B + (3,), from that of a point (x, y in m, B): v_centre = v_point - ω × r."""
    moved = np.array(twist, np.float64)
    moved[..., 0] += twist[..., 2] * y_m
    moved[..., 1] -= twist[..., 2] * x_m
    return moved
