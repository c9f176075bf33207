"""Whether a robot's body touches what stands on the field, for one robot or a batch."""

from __future__ import annotations

from math import hypot

import numpy as np
from numpy.typing import NDArray

from pivrex.line.stage import Floats, some
from pivrex.rig.field import Field

__all__ = ["Obstacles"]

Bools = NDArray[np.bool_]


class Obstacles:
    """Walls, N blocks and rounds of a field, against a rectangular body.

    Parameters
    ----------
    field : Field or None
        None is an open floor without end.
    length_m, width_m : float
        The body.
    """

    def __init__(self, field: Field | None, length_m: float, width_m: float) -> None:
        self._half = (length_m / 2, width_m / 2)
        self._reach = hypot(*self._half)
        walls = field is not None and field.walls
        self._size = np.array([field.length_m, field.width_m] if field is not None and walls else [np.inf, np.inf])
        self._from = 0.0 if walls else -np.inf
        blocks = field.blocks if field is not None else ()
        rounds = field.rounds if field is not None else ()
        self._blocks = np.array([(b.x_m, b.y_m, b.length_m / 2, b.width_m / 2) for b in blocks]).reshape(-1, 4)
        self._rounds = np.array([(r.x_m, r.y_m, r.radius_m) for r in rounds]).reshape(-1, 3)
        boxes = [*self._blocks.tolist(), *((x, y, r, r) for x, y, r in self._rounds.tolist())]
        whole = np.array(boxes).reshape(-1, 4)
        self._middles, self._near = whole[:, :2], whole[:, 2:] + self._reach
        self._any = bool(walls or len(whole))

    def touched(self, pose: Floats) -> Bools:
        """Tell, B, whether the body at a pose, B + (3,) (x, y in m, heading in rad), overlaps anything.

        Notes
        -----
        Two rectangles are apart if some side direction of one separates them (separating axis theorem); the circle
        is apart if its centre, clamped to the rectangle, is farther than its radius.
        """
        place = pose[..., :2]
        if not self._any or not some(self._close(place)):
            return np.zeros(pose.shape[:-1], bool)
        c, s = np.cos(pose[..., 2]), np.sin(pose[..., 2])
        half_l, half_w = self._half
        wide = half_l * np.abs(c) + half_w * np.abs(s)
        high = half_l * np.abs(s) + half_w * np.abs(c)
        x, y = place[..., 0], place[..., 1]
        hit = (
            (x - wide < self._from) | (x + wide > self._size[0]) | (y - high < self._from) | (y + high > self._size[1])
        )
        c, s, wide, high = c[..., None], s[..., None], wide[..., None], high[..., None]
        if len(self._blocks):
            dx, dy = self._blocks[:, 0] - place[..., :1], self._blocks[:, 1] - place[..., 1:]
            hx, hy = self._blocks[:, 2], self._blocks[:, 3]
            apart = (
                (np.abs(dx) > hx + wide)
                | (np.abs(dy) > hy + high)
                | (np.abs(dx * c + dy * s) > half_l + hx * np.abs(c) + hy * np.abs(s))
                | (np.abs(dy * c - dx * s) > half_w + hx * np.abs(s) + hy * np.abs(c))
            )
            hit = hit | ~apart.all(axis=-1)
        if len(self._rounds):
            dx, dy = self._rounds[:, 0] - place[..., :1], self._rounds[:, 1] - place[..., 1:]
            ahead, left = np.abs(dx * c + dy * s), np.abs(dy * c - dx * s)
            away = np.hypot(np.maximum(ahead - half_l, 0.0), np.maximum(left - half_w, 0.0))
            hit = hit | (away < self._rounds[:, 2]).any(axis=-1)
        return hit

    def _close(self, place: Floats) -> Bools:
        """Tell whether the body may touch something, however it is turned."""
        edge = (place < self._from + self._reach) | (place > self._size - self._reach)
        if not len(self._near):
            return edge
        near = (np.abs(self._middles - place[..., None, :]) < self._near).all(axis=-1)
        return np.concatenate((edge, near), axis=-1)
