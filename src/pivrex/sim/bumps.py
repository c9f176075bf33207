"""Whether a robot's body touches what stands on the field."""

from __future__ import annotations

from math import cos, hypot, sin

from pivrex.rig.field import Field

__all__ = ["Obstacles"]

Pose = tuple[float, float, float]


class Obstacles:
    """Walls, blocks and rounds of a field, against a rectangular body.

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
        self._walls = (field.length_m, field.width_m) if field is not None and field.walls else None
        blocks = field.blocks if field is not None else ()
        rounds = field.rounds if field is not None else ()
        self._blocks = [(b.x_m, b.y_m, b.length_m / 2, b.width_m / 2) for b in blocks]
        self._rounds = [(r.x_m, r.y_m, r.radius_m) for r in rounds]

    def touched(self, pose: Pose) -> bool:
        """Tell whether the body at a pose (x, y in m, heading in rad) overlaps anything.

        Notes
        -----
        Two rectangles are apart if some side direction of one separates them (separating axis theorem); the circle
        is apart if its centre, clamped to the rectangle, is farther than its radius.
        """
        x, y, heading = pose
        reach = self._reach
        near_blocks = [b for b in self._blocks if abs(b[0] - x) < b[2] + reach and abs(b[1] - y) < b[3] + reach]
        near_rounds = [r for r in self._rounds if abs(r[0] - x) < r[2] + reach and abs(r[1] - y) < r[2] + reach]
        near_wall = self._walls is not None and not (
            reach < x < self._walls[0] - reach and reach < y < self._walls[1] - reach
        )
        if not (near_blocks or near_rounds or near_wall):
            return False
        c, s = cos(heading), sin(heading)
        ac, as_ = abs(c), abs(s)
        half_l, half_w = self._half
        wide, high = half_l * ac + half_w * as_, half_l * as_ + half_w * ac
        if self._walls is not None and near_wall:
            length, width = self._walls
            if x - wide < 0 or x + wide > length or y - high < 0 or y + high > width:
                return True
        for bx, by, hx, hy in near_blocks:
            dx, dy = bx - x, by - y
            apart = (
                abs(dx) > hx + wide
                or abs(dy) > hy + high
                or abs(dx * c + dy * s) > half_l + hx * ac + hy * as_
                or abs(dy * c - dx * s) > half_w + hx * as_ + hy * ac
            )
            if not apart:
                return True
        for rx, ry, radius in near_rounds:
            dx, dy = rx - x, ry - y
            ahead, left = abs(dx * c + dy * s), abs(dy * c - dx * s)
            if hypot(max(ahead - half_l, 0.0), max(left - half_w, 0.0)) < radius:
                return True
        return False
