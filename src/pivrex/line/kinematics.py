"""Kinematics: between the twist of the body and the speeds of its wheels, by one matrix for every unsteered chassis."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from pivrex.rig.chassis import Chassis

__all__ = ["Kinematics", "kinematics_of", "twist_of", "wheel_matrix", "wheel_speeds"]

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Kinematics:
    """The two linear maps of a chassis with W wheels.

    Attributes
    ----------
    inverse : (W, 3) float64
        Wheel surface speeds in m/s from the twist (forward m/s, left m/s, turn rad/s).
    forward : (3, W) float64
        The twist from the wheel surface speeds.
    """

    inverse: Floats
    forward: Floats


def wheel_matrix(places: Floats, drive: Floats, roller_axis: Floats | None = None) -> Floats:
    """Give H with wheel surface speeds s = H·twist.

    Parameters
    ----------
    places : (W, 2) float64
        Where each wheel touches the ground, x forward and y left, in m.
    drive : (W, 2) float64
        Unit vectors along which each wheel rolls.
    roller_axis : (W, 2) float64, optional
        Unit vectors of the rollers' axes where they touch the ground; ``drive`` for plain wheels.

    Returns
    -------
    (W, 3) float64

    Notes
    -----
    On a body with twist (vx, vy, ω) the hub moves with u = (vx - ω·y, vy + ω·x), and the surface speed is
    s = (u·a)/(d·a). (Lynch & Park, Modern Robotics, ch. 13; Muir & Neuman 1987.)
    """
    axis = drive if roller_axis is None else roller_axis
    x, y = places[:, 0], places[:, 1]
    along = (drive * axis).sum(axis=1)
    return np.stack([axis[:, 0], axis[:, 1], axis[:, 1] * x - axis[:, 0] * y], axis=1) / along[:, None]


def kinematics_of(chassis: Chassis) -> Kinematics:
    """Derive both maps from a chassis.

    Notes
    -----
    Forward: first the twist that fits the wheel rows best (least squares, t0 = H⁺s); in what those rows leave open,
    the null space N of H, the twist with the least side slip of the plain wheels: with S the matrix of side speeds,
    t = t0 - N·(S·N)⁺·S·t0. Both steps are linear, so they make one matrix. (Campion et al. 1996.)
    """
    places = np.array([(w.x_m, w.y_m) for w in chassis.wheels])
    angles = np.array([w.drive_rad for w in chassis.wheels])
    drive = np.stack([np.cos(angles), np.sin(angles)], axis=1)
    side = np.stack([-drive[:, 1], drive[:, 0]], axis=1)
    inverse = wheel_matrix(places, drive)
    sideways = wheel_matrix(places, side)
    fit: Floats = np.asarray(np.linalg.pinv(inverse), np.float64)
    _, sizes, rows = np.linalg.svd(inverse)
    rank = int((sizes > 1e-9 * sizes.max()).sum())
    null = rows[rank:].T
    forward = fit - null @ np.linalg.pinv(sideways @ null) @ sideways @ fit if null.size else fit
    # rounding of the decompositions would show as a robot that creeps sideways by 1e-17 m
    forward[np.abs(forward) < 1e-12] = 0.0
    inverse[np.abs(inverse) < 1e-15] = 0.0
    return Kinematics(inverse, forward)


def wheel_speeds(kinematics: Kinematics, twist: Floats) -> Floats:
    """Give the wheel surface speeds, B + (W,) in m/s, that a twist, B + (3,), needs: s = H·twist.

    By einsum: a matrix product gives other bits for one robot than for many.
    """
    return np.einsum("wk,...k->...w", kinematics.inverse, twist)


def twist_of(kinematics: Kinematics, speeds: Floats) -> Floats:
    """Give the twist, B + (3,), that wheel surface speeds, B + (W,) in m/s, achieve."""
    return np.einsum("kw,...w->...k", kinematics.forward, speeds)
