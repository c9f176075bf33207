"""Contact with what stands on the field: it pushes back, with friction, and gives nothing that it did not get."""

from __future__ import annotations

from math import hypot

import numpy as np
from numpy.typing import NDArray

from pivrex.line.stage import Floats, some
from pivrex.rig.field import Field

__all__ = ["Near", "Walls"]

Bools = NDArray[np.bool_]

_CORNERS = np.array([(1.0, 1.0), (1.0, -1.0), (-1.0, -1.0), (-1.0, 1.0)])
FAR_M = 1e6


class Near:
    """Places where a body may touch something, N of them, for each robot of a batch of shape B.

    Attributes
    ----------
    gap : B + (N,) float64
        How far they are apart, in m; below 0 they overlap.
    push : B + (N, 3) float64
        What a newton that pushes the body away does to it: forward and left in N, turning in N·m about its mass centre.
    along : B + (N, 3) float64
        The same square to it, for friction.
    away : B + (N, 2) float64
        The direction away, in the field.
    """

    def __init__(self, gap: Floats, push: Floats, along: Floats, away: Floats) -> None:
        self.gap, self.push, self.along, self.away = gap, push, along, away


class Walls:
    """Walls, blocks and rounds of a field, against a rectangular body."""

    def __init__(self, field: Field | None, length_m: float, width_m: float) -> None:
        self._half = np.array([length_m / 2, width_m / 2])
        self._reach = hypot(*self._half)
        walls = field is not None and field.walls
        self._size = np.array([field.length_m, field.width_m]) if field is not None and walls else None
        blocks = field.blocks if field is not None else ()
        rounds = field.rounds if field is not None else ()
        self._blocks = np.array([(b.x_m, b.y_m, b.length_m / 2, b.width_m / 2) for b in blocks]).reshape(-1, 4)
        self._rounds = np.array([(r.x_m, r.y_m, r.radius_m) for r in rounds]).reshape(-1, 3)
        boxes = [*self._blocks.tolist(), *((x, y, r, r) for x, y, r in self._rounds.tolist())]
        self._boxes = boxes
        whole = np.array(boxes).reshape(-1, 4)
        self._middles, self._sizes = whole[:, :2], whole[:, 2:]
        self._corners = self._blocks[:, None, :2] + _CORNERS * self._blocks[:, None, 2:]

    def may_touch(self, x: float, y: float, reach: float) -> bool:
        """Tell whether one body at a place may touch something within ``reach`` beyond its own size, however it is turned."""
        far = self._reach + reach
        if self._size is not None and not (
            far < x < float(self._size[0]) - far and far < y < float(self._size[1]) - far
        ):
            return True
        return any(abs(x - bx) < hx + far and abs(y - by) < hy + far for bx, by, hx, hy in self._boxes)

    def some_may_touch(self, place: Floats, reach: float) -> bool:
        """The same for any of many, B + (2,)."""
        far = self._reach + reach
        if self._size is not None and some((place < far) | (place > self._size - far)):
            return True
        return bool(len(self._middles)) and some(
            (np.abs(place[..., None, :] - self._middles) < self._sizes + far).all(axis=-1)
        )

    def near(self, pose: Floats, centre: Floats) -> Near:
        """Give where bodies may touch something.

        Parameters
        ----------
        pose : B + (3,) float64
            x and y in m, heading in rad.
        centre : B + (2,) float64
            Where the mass sits in the body, in m.

        Notes
        -----
        Corners of the body against walls and blocks, corners of blocks against the body, rounds against the body's nearest
        point. Between a corner and a rectangle the gap is the larger of both along its sides: while one side still
        separates them they do not touch (separating axis).
        """
        c, s = np.cos(pose[..., 2]), np.sin(pose[..., 2])
        turn = np.stack([np.stack([c, -s], -1), np.stack([s, c], -1)], -2)  # B + (2, 2), from the body to the field
        place = pose[..., None, :2]
        corners = _CORNERS * self._half
        world = place + _turned(turn[..., None, :, :], corners)  # B + (4, 2)
        gaps: list[Floats] = []
        spots: list[Floats] = []
        ways: list[Floats] = []
        if self._size is not None:
            low, high = world, self._size - world
            for axis in (0, 1):
                way = np.zeros(2)
                way[axis] = 1.0
                for gap, sign in ((low[..., axis], 1.0), (high[..., axis], -1.0)):
                    gaps.append(gap)
                    spots.append(world)
                    ways.append(np.broadcast_to(sign * way, world.shape))
        for block in self._blocks:
            away = world - block[:2]
            gap, way = _apart(away, block[2:])
            gaps.append(gap)
            spots.append(world)
            ways.append(way)
        for ends in self._corners:  # the corners of a block, in the body's directions
            seen = _turned(np.swapaxes(turn, -1, -2)[..., None, :, :], ends - place)
            gap, way = _apart(seen, self._half)
            gaps.append(gap)
            spots.append(np.broadcast_to(ends, (*gap.shape, 2)))
            ways.append(-_turned(turn[..., None, :, :], way))
        for x, y, radius in self._rounds:
            seen = _turned(np.swapaxes(turn, -1, -2)[..., None, :, :], np.array([[x, y]]) - place)
            nearest = np.minimum(np.maximum(seen, -self._half), self._half)
            apart = seen - nearest
            far = np.sqrt((apart * apart).sum(axis=-1))
            inside, out = _apart(seen, self._half)
            outside = far > 1e-9
            way = np.where(outside[..., None], apart / np.where(outside, far, 1.0)[..., None], out)
            gaps.append(np.where(outside, far, inside) - radius)
            spots.append(place + _turned(turn[..., None, :, :], nearest))
            ways.append(-_turned(turn[..., None, :, :], way))
        gap, spot, way = (np.concatenate(parts, axis=axis) for parts, axis in ((gaps, -1), (spots, -2), (ways, -2)))
        back = np.swapaxes(turn, -1, -2)[..., None, :, :]
        lever = _turned(back, spot - place) - centre[..., None, :]
        own = _turned(back, way)
        beside = np.stack([-own[..., 1], own[..., 0]], axis=-1)
        return Near(gap, _wrench(lever, own), _wrench(lever, beside), way)


def _turned(turn: Floats, vectors: Floats) -> Floats:
    """Turn vectors, (..., 2), by matrices, (..., 2, 2), without the ways of sums that hang on how many there are."""
    x, y = vectors[..., 0], vectors[..., 1]
    return np.stack([turn[..., 0, 0] * x + turn[..., 0, 1] * y, turn[..., 1, 0] * x + turn[..., 1, 1] * y], axis=-1)


def _apart(away: Floats, half: Floats) -> tuple[Floats, Floats]:
    """Give the gap between points and a rectangle, and the direction from it to them; ``away`` is from its middle."""
    gaps = np.abs(away) - half
    first = gaps[..., 0] > gaps[..., 1]
    sign = np.where(away >= 0, 1.0, -1.0)
    way = np.stack([np.where(first, sign[..., 0], 0.0), np.where(first, 0.0, sign[..., 1])], axis=-1)
    return np.where(first, gaps[..., 0], gaps[..., 1]), way


def _wrench(lever: Floats, way: Floats) -> Floats:
    turning = lever[..., 0] * way[..., 1] - lever[..., 1] * way[..., 0]
    return np.concatenate((way, turning[..., None]), axis=-1)
