"""The distance between a robot's outline and the walls and objects of the field."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from pivrex.line.stage import Floats
from pivrex.rig.field import Field

__all__ = ["Clearance", "clearance"]

FAR_M = 1e3


class Clearance(NamedTuple):
    """How far a robot's outline keeps from everything, in N places.

    Attributes
    ----------
    away : (N,) float64
        In m; below 0 it overlaps something, by that much.
    what : (N,) of int
        Which thing is the nearest, in ``names``.
    names : tuple of str
    """

    away: Floats
    what: np.ndarray
    names: tuple[str, ...]


def clearance(field: Field | None, length_m: float, width_m: float, pose: Floats) -> Clearance:
    """Return how far a rectangular outline keeps from everything on a field.

    Parameters
    ----------
    field : Field or None
        None is an open floor without end.
    length_m, width_m : float
        The outline.
    pose : (N, 3) float64
        x, y in m, heading in rad.

    Notes
    -----
    Two rectangles are apart if some side direction of one separates them; their distance is then the least of a corner of one to the
    other, and while they overlap the least of what would part them (separating axis theorem; Ericson, Real-Time Collision Detection,
    ch. 4.4, 5.1).
    """
    n = len(pose)
    found: list[tuple[str, Floats]] = []
    c, s = np.cos(pose[:, 2]), np.sin(pose[:, 2])
    half_l, half_w = length_m / 2, width_m / 2
    signs = np.array([(1, 1), (1, -1), (-1, 1), (-1, -1)], float)
    cx = pose[:, :1] + c[:, None] * signs[:, 0] * half_l - s[:, None] * signs[:, 1] * half_w
    cy = pose[:, 1:2] + s[:, None] * signs[:, 0] * half_l + c[:, None] * signs[:, 1] * half_w
    if field is not None and field.walls:
        wall = np.minimum(np.minimum(cx, field.length_m - cx), np.minimum(cy, field.width_m - cy)).min(axis=1)
        found.append(("the wall", wall))
    for thing in field.blocks if field is not None else ():
        hx, hy = thing.length_m / 2, thing.width_m / 2
        found.append((thing.name, _block(pose, (c, s), (half_l, half_w), (cx, cy), (thing.x_m, thing.y_m, hx, hy))))
    for round_ in field.rounds if field is not None else ():
        dx, dy = round_.x_m - pose[:, 0], round_.y_m - pose[:, 1]
        found.append((round_.name, _outside(c * dx + s * dy, c * dy - s * dx, half_l, half_w) - round_.radius_m))
    if not found:
        return Clearance(np.full(n, FAR_M), np.zeros(n, np.intp), ("nothing",))
    each = np.array([a for _, a in found])
    return Clearance(each.min(axis=0), each.argmin(axis=0), tuple(name for name, _ in found))


def _outside(x: Floats, y: Floats, half_x: float, half_y: float) -> Floats:
    """Return how far points lie outside a rectangle about the origin; within it, below 0, how deep."""
    ox, oy = np.abs(x) - half_x, np.abs(y) - half_y
    return np.hypot(np.maximum(ox, 0.0), np.maximum(oy, 0.0)) + np.minimum(np.maximum(ox, oy), 0.0)


def _block(
    pose: Floats,
    turn: tuple[Floats, Floats],
    half: tuple[float, float],
    corners: tuple[Floats, Floats],
    block: tuple[float, float, float, float],
) -> Floats:
    c, s = turn
    x, y, hx, hy = block
    dx, dy = x - pose[:, 0], y - pose[:, 1]
    apart = np.stack(
        (
            np.abs(dx) - hx - half[0] * np.abs(c) - half[1] * np.abs(s),
            np.abs(dy) - hy - half[0] * np.abs(s) - half[1] * np.abs(c),
            np.abs(dx * c + dy * s) - half[0] - hx * np.abs(c) - hy * np.abs(s),
            np.abs(dy * c - dx * s) - half[1] - hx * np.abs(s) - hy * np.abs(c),
        )
    ).max(axis=0)
    mine = _outside(corners[0] - x, corners[1] - y, hx, hy).min(axis=1)
    its = np.array([(1, 1), (1, -1), (-1, 1), (-1, -1)], float)
    tx, ty = dx[:, None] + its[:, 0] * hx, dy[:, None] + its[:, 1] * hy
    theirs = _outside(c[:, None] * tx + s[:, None] * ty, c[:, None] * ty - s[:, None] * tx, *half).min(axis=1)
    return np.where(apart > 0, np.minimum(mine, theirs), apart)
