"""The speed envelope: how fast a chassis can go in every direction, and how much of it is left while it turns."""

from __future__ import annotations

from math import pi

import numpy as np
from numpy.typing import NDArray

from pivrex.line import kinematics
from pivrex.rig.rig import Rig

__all__ = ["Envelope"]

Floats = NDArray[np.float64]

_NONE = np.nan
NEARLY = 1e-9
"""Rounding; a wheel this much past its limit is at it."""


class Envelope:
    """The motions that the wheels' top speeds allow. Exact: every answer solves the wheels' own limits.

    A chassis that moves in the plane has a region of velocities for each rate of turn; one that does not has a region
    of speed and rate of turn.

    Attributes
    ----------
    planar : bool
        Whether the chassis moves in the plane.
    fastest_turn_rad_s : float
        The fastest turn on the spot.
    """

    def __init__(self, rig: Rig) -> None:
        maps = kinematics.kinematics_of(rig.chassis)
        # what each wheel needs of a twist, as D components whose norm its top speed limits
        self._needs = maps.hubs if maps.hubs is not None else maps.inverse[:, None, :]
        self._top = np.array([rig.wheel_top_m_s(w.name) for w in rig.chassis.wheels])
        geometry = rig.chassis.geometry
        self.planar = geometry.moves_in_plane and geometry.can(np.array([0.0, 0.0, 1.0]))
        self._follow = geometry.follow
        self.fastest_turn_rad_s = float(self._reach(np.array([0.0, 0.0, 1.0]), np.zeros(3))[1])

    def _reach(self, way: Floats, start: Floats) -> tuple[Floats, Floats]:
        """Return the least and the most r, B, for which start + r·way, B + (3,), is within every wheel's limit; NaN if none.

        Notes
        -----
        For each wheel |a + r·b|² ≤ T² is a quadratic in r; the answer is where all its intervals overlap.
        """
        way = self._followed(way)
        start = self._followed(start)
        b = np.einsum("wdk,...k->...wd", self._needs, way)
        a = np.einsum("wdk,...k->...wd", self._needs, start)
        square, cross = (b * b).sum(-1), (a * b).sum(-1)
        room = self._top**2 - (a * a).sum(-1)
        inside = cross * cross + square * room
        moves = square > 1e-18
        safe = np.where(moves, square, 1.0)
        root = np.sqrt(np.maximum(inside, 0.0))
        low, high = (-cross - root) / safe, (root - cross) / safe
        # a wheel that this direction does not turn limits nothing, unless it is past its limit already
        low = np.where(moves, low, np.where(room >= -NEARLY, -np.inf, np.inf))
        high = np.where(moves, high, np.where(room >= -NEARLY, np.inf, -np.inf))
        empty = (moves & (inside < -NEARLY)).any(-1)
        least, most = low.max(-1), high.min(-1)
        none = empty | (least > most + NEARLY)
        return np.where(none, _NONE, least), np.where(none, _NONE, most)

    def _followed(self, twist: Floats) -> Floats:
        """The part of a twist that the chassis follows: what moves sideways by itself is included."""
        return twist if self.planar else np.einsum("kj,...j->...k", self._follow, twist)

    def speed(self, direction_rad: Floats, turn_rad_s: float | Floats = 0.0) -> Floats:
        """Return the greatest speed in m/s in directions, B in rad counter-clockwise from straight ahead.

        ``turn_rad_s`` is the rate of turn meanwhile, B or one for all. NaN where the turn leaves no such motion, 0 where
        the chassis cannot move that way at all.
        """
        direction = np.asarray(direction_rad, float)
        turn = np.broadcast_to(np.asarray(turn_rad_s, float), direction.shape)
        way = np.stack((np.cos(direction), np.sin(direction), np.zeros_like(direction)), axis=-1)
        start = np.stack((np.zeros_like(turn), np.zeros_like(turn), turn), axis=-1)
        _, most = self._reach(way, start)
        with np.errstate(invalid="ignore"):
            found = np.where(most >= -NEARLY, np.maximum(most, 0.0), _NONE)
        if self.planar:
            return found
        can = np.abs(self._followed(way) - way)[..., :2].max(-1) < 1e-9
        return np.where(can, found, 0.0)

    def outline(self, turn_rad_s: float = 0.0, count: int = 144) -> Floats:
        """Return points (forward, left) in m/s on the edge at a rate of turn, (N, 2), closed; empty if nothing is left.

        Directions are even, with every corner of a straight-sided region among them, so that the lines between the
        points are the edge itself there; a chassis with steered wheels has an edge of arcs.
        """
        angles = np.sort(np.concatenate((np.linspace(-pi, pi, count + 1), self._corners(turn_rad_s))))
        speeds = self.speed(angles, turn_rad_s)
        points = np.stack((speeds * np.cos(angles), speeds * np.sin(angles)), axis=-1)
        return points[~np.isnan(speeds)]

    def _corners(self, turn: float) -> Floats:
        """Directions in which two wheels reach their limits at once, from every pair of their straight limits."""
        if self._needs.shape[1] != 1:
            return np.zeros(0)
        rows, found = self._needs[:, 0, :], []
        for i in range(len(rows)):
            for j in range(i):
                sides = np.array([rows[i, :2], rows[j, :2]])
                if abs(np.linalg.det(sides)) < 1e-9:
                    continue
                for p in (-1.0, 1.0):
                    for q in (-1.0, 1.0):
                        limits = np.array([p * self._top[i] - rows[i, 2] * turn, q * self._top[j] - rows[j, 2] * turn])
                        corner = np.linalg.solve(sides, limits)
                        if np.abs(corner).max() > 1e-9:
                            found.append(np.arctan2(corner[1], corner[0]))
        return np.array(found)

    def speed_and_turn(self) -> Floats:
        """Return the corners (forward m/s, turn rad/s) of what a chassis that does not move in the plane can do, (N, 2)."""
        rows = self._followed(np.eye(3))  # how a forward and a turn fraction are followed
        forward, turn = self._needs @ rows[0], self._needs @ rows[2]
        if forward.shape[1] > 1:
            return self._arcs()
        found: list[tuple[float, float]] = []
        count = len(self._top)
        for i in range(count):
            for j in range(i):
                sides = np.array([[forward[i, 0], turn[i, 0]], [forward[j, 0], turn[j, 0]]])
                if abs(np.linalg.det(sides)) < 1e-12:
                    continue
                for p in (-1.0, 1.0):
                    for q in (-1.0, 1.0):
                        v, w = np.linalg.solve(sides, [p * self._top[i], q * self._top[j]])
                        if (np.abs(forward[:, 0] * v + turn[:, 0] * w) <= self._top * (1 + 1e-9)).all():
                            found.append((float(v), float(w)))
        points = np.array(sorted(set(found), key=lambda point: np.arctan2(point[1], point[0])))
        return points.reshape(-1, 2)

    def _arcs(self, count: int = 144) -> Floats:
        """The same where wheels are steered, whose limits are arcs: points on the edge in even directions, with the turn
        measured in the fastest one.
        """
        angles = np.linspace(-pi, pi, count, endpoint=False)
        way = np.stack((np.cos(angles), np.zeros(count), np.sin(angles) * self.fastest_turn_rad_s), axis=-1)
        _, most = self._reach(way, np.zeros((count, 3)))
        return (way * most[:, None])[:, ::2]
