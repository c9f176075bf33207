"""Learns each motor by itself: the fit includes the body that they move together."""

from __future__ import annotations

import numpy as np

from pivrex.errors import LearnError
from pivrex.line.layout import Floats
from pivrex.rig.chassis import Chassis
from pivrex.runs.learning.drive import Drive
from pivrex.runs.learning.fit import Fit, fit
from pivrex.runs.learning.motors import GENTLE_M_S2, MAX_S, MOVES_M_S, Windows

__all__ = ["each_of"]

CREEPS_M_S = 0.005
"""A caster that moves more slowly drags less than its whole friction."""

MIN_WINDOWS = 40


def each_of(windows: Windows, drive: Drive, chassis: Chassis) -> list[Fit]:
    """Fit each motor: static, drive for each m/s, and what the body adds.

    Parameters
    ----------
    windows : Windows
    drive : Drive
    chassis : Chassis

    Raises
    ------
    LearnError
        If its wheels push each other through the floor, or the drive tells too little, with what to drive.

    Notes
    -----
    The wheels' forces f balance a force and a moment on the body, rowsᵀ·f = (Fx, Fy, M), so f = (rowsᵀ)⁺·(Fx, Fy, M) where there are
    no more wheels than motions that they drive. Reckoned in are what brings the body to speed (a factor for each wheel's
    acceleration), what a mass centre (x, y) adds that does not sit in the middle, with twist (v, u, w): Fx = -m·w·(u + w·x),
    Fy = m·w·(v - w·y), M = x·Fy - y·Fx; and casters, which drag against where they go. Each has one factor that is fitted.
    (Lynch & Park, Modern Robotics, ch. 8 and 13.)
    """
    rows = chassis.geometry.rows
    if any(w.steered for w in chassis.wheels) or len(rows) != len(windows.drive[0]):
        raise LearnError("wheels that are steered, or share a motor, cannot be separated")
    if np.linalg.matrix_rank(rows, 1e-6) < len(rows):
        raise LearnError(
            "it has more wheels than ways to move: they push each other through the floor, so one looks like another"
        )
    order = np.argsort(drive.motor_of)
    rows = rows[order]
    speeds = np.nan_to_num(windows.at_ticks)
    twist = speeds @ np.linalg.pinv(rows).T
    forces = np.linalg.pinv(rows.T).T
    added = [_means(_of_mass(twist, chassis) @ forces, windows, drive.dt_s)]
    if chassis.casters:
        added.append(_means(_of_casters(twist, chassis) @ forces, windows, drive.dt_s))
    found = []
    for m in range(len(rows)):
        speed = windows.own_speed[:, m]
        way = np.sign(speed)
        good = (
            (np.abs(speed) > MOVES_M_S)
            & (np.sign(windows.own_begins[:, m]) == way)
            & (np.sign(windows.own_ends[:, m]) == way)
        )
        good &= (windows.length_s < MAX_S) & (np.abs(windows.own_rise).max(axis=1) < GENTLE_M_S2)
        if good.sum() < MIN_WINDOWS:
            raise LearnError(
                f"there is not enough even driving: {good.sum()} of {MIN_WINDOWS} stretches. "
                "Drive straight and turn, slowly and fast, in both directions"
            )
        x = np.column_stack([way, speed, windows.own_rise, *(a[:, m] for a in added)])
        found.append(fit(x[good], windows.own_drive[good, m]))
    return found


def _of_mass(twist: Floats, chassis: Chassis) -> Floats:
    v, u, w = twist.T
    x, y = chassis.mass_centre.x_m, chassis.mass_centre.y_m
    fx, fy = -w * (u + w * x), w * (v - w * y)
    return np.column_stack([fx, fy, x * fy - y * fx])


def _of_casters(twist: Floats, chassis: Chassis) -> Floats:
    v, u, w = twist.T
    whole = np.zeros_like(twist)
    for caster in chassis.casters:
        cx, cy = v - w * caster.y_m, u + w * caster.x_m
        fast = np.hypot(cx, cy) + CREEPS_M_S
        fx, fy = cx / fast, cy / fast
        whole += np.column_stack([fx, fy, caster.x_m * fy - caster.y_m * fx])
    return whole


def _means(values: Floats, windows: Windows, dt_s: float) -> Floats:
    whole = np.concatenate((np.zeros((1, values.shape[1])), np.cumsum(values, axis=0)))
    edges = np.append(windows.first, windows.last)
    means: Floats = np.diff(whole[edges], axis=0) * dt_s / windows.length_s[:, None]
    return means
