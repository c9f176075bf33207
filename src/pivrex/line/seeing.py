"""What rangers and lamps see of a field, for one robot or a batch."""

from __future__ import annotations

from statistics import NormalDist

import numpy as np

from pivrex.line.stage import Floats
from pivrex.rig.field import Field
from pivrex.rig.rig import Rig
from pivrex.rig.sensors import Lamp, Ranger

__all__ = ["Seeing"]

RAYS = 7
"""A cone is looked along so many rays; the nearest thing counts."""

FAR_M = 1e6


class Seeing:
    """The rangers and lamps of a rig on a field.

    Parameters
    ----------
    rig : Rig
    field : Field or None
    """

    def __init__(self, rig: Rig, field: Field | None) -> None:
        self._sensors = list(rig.sensors.values())
        blocks = field.blocks if field is not None else ()
        rounds = field.rounds if field is not None else ()
        self._size = np.array([field.length_m, field.width_m]) if field is not None and field.walls else None
        self._blocks = np.array([(b.x_m, b.y_m, b.length_m / 2, b.width_m / 2) for b in blocks]).reshape(-1, 4)
        self._rounds = np.array([(r.x_m, r.y_m, r.radius_m) for r in rounds]).reshape(-1, 3)
        self._shows = [
            *((b.x_m, b.y_m, float(b.shows)) for b in blocks if b.shows),
            *((r.x_m, r.y_m, float(r.shows)) for r in rounds if r.shows),
        ]

    @property
    def any(self) -> bool:
        """Whether there is any sensor."""
        return bool(self._sensors)

    def sense(self, pose: Floats, chance: Floats | None = None) -> Floats:
        """Give what each sensor reads, B + (N,).

        Parameters
        ----------
        pose : B + (3,) float64
        chance : B + (2·N,) float64, optional
            Normal numbers for noise and missed echoes; without them sensors are perfect.
        """
        found = np.empty((*pose.shape[:-1], len(self._sensors)))
        for k, sensor in enumerate(self._sensors):
            c, s = np.cos(pose[..., 2]), np.sin(pose[..., 2])
            x = pose[..., 0] + c * sensor.x_m - s * sensor.y_m
            y = pose[..., 1] + s * sensor.x_m + c * sensor.y_m
            looks = pose[..., 2] + sensor.direction_rad
            if isinstance(sensor, Ranger):
                mine = None if chance is None else chance[..., 2 * k : 2 * k + 2]
                found[..., k] = self._range(sensor, x, y, looks, mine)
            else:
                found[..., k] = self._number(sensor, x, y, looks)
        return found

    def _range(self, sensor: Ranger, x: Floats, y: Floats, looks: Floats, chance: Floats | None) -> Floats:
        angles = looks[..., None] + np.linspace(-0.5, 0.5, RAYS) * sensor.cone_rad
        way = self.along(x[..., None], y[..., None], np.cos(angles), np.sin(angles)).min(axis=-1)
        heard = way <= sensor.longest_m
        if chance is not None:
            way = way + sensor.noise_m * chance[..., 0]
            # a share of echoes is missed: those whose second number lies above what only that share does
            if sensor.missed > 0:
                heard = heard & (chance[..., 1] < NormalDist().inv_cdf(max(1 - sensor.missed, 1e-9)))
        way = np.minimum(np.maximum(way, sensor.shortest_m), sensor.longest_m)
        return np.where(heard, way, 0.0)

    def along(self, x: Floats, y: Floats, c: Floats, s: Floats) -> Floats:
        """Give how far rays go until something stops them.

        Notes
        -----
        Rectangles by the slab method (Kay & Kajiya 1986), rounds by the nearer root of |p + t·d - m| = r.
        """
        safe_c, safe_s = (np.where(np.abs(v) < 1e-12, 1e-12, v) for v in (c, s))
        way = np.full(c.shape, FAR_M)
        if self._size is not None:
            wall = np.minimum(
                np.where(safe_c > 0, self._size[0] - x, -x) / safe_c,
                np.where(safe_s > 0, self._size[1] - y, -y) / safe_s,
            )
            way = np.minimum(way, np.maximum(wall, 0.0))
        if len(self._blocks):
            enters, leaves = self._slabs(x[..., None], y[..., None], safe_c[..., None], safe_s[..., None], self._blocks)
            hits = (leaves >= enters) & (leaves > 0)
            way = np.minimum(way, np.where(hits, np.maximum(enters, 0.0), FAR_M).min(axis=-1))
        if len(self._rounds):
            dx, dy = self._rounds[:, 0] - x[..., None], self._rounds[:, 1] - y[..., None]
            middle = dx * c[..., None] + dy * s[..., None]
            aside = dx * dx + dy * dy - middle * middle
            square = self._rounds[:, 2] ** 2
            half = np.sqrt(np.maximum(square - aside, 0.0))
            hits = (aside <= square) & (middle + half > 0)
            way = np.minimum(way, np.where(hits, np.maximum(middle - half, 0.0), FAR_M).min(axis=-1))
        return way

    @staticmethod
    def _slabs(x: Floats, y: Floats, dx: Floats, dy: Floats, blocks: Floats) -> tuple[Floats, Floats]:
        """Give where rays enter and leave blocks, (N, 4), as multiples of their direction."""
        bx, by, hx, hy = blocks.T
        first, second = (bx - hx - x) / dx, (bx + hx - x) / dx
        third, fourth = (by - hy - y) / dy, (by + hy - y) / dy
        enters = np.maximum(np.minimum(first, second), np.minimum(third, fourth))
        leaves = np.minimum(np.maximum(first, second), np.maximum(third, fourth))
        return enters, leaves

    def _number(self, sensor: Lamp, x: Floats, y: Floats, looks: Floats) -> Floats:
        """Give the number that the nearest thing in sight shows."""
        number, nearest = np.zeros(x.shape), np.full(x.shape, FAR_M)
        for px, py, shows in self._shows:
            dx, dy = px - x, py - y
            away = np.sqrt(dx * dx + dy * dy)
            bearing = np.arctan2(dy, dx)
            off = np.abs((bearing - looks + np.pi) % (2 * np.pi) - np.pi)
            seen = (away <= sensor.range_m) & (off <= sensor.sight_rad / 2)
            if not seen.any():
                continue
            seen = seen & ~self._hidden(x, y, px, py)
            number = np.where(seen & (away < nearest), shows, number)
            nearest = np.where(seen, np.minimum(nearest, away), nearest)
        return number

    def _hidden(self, x: Floats, y: Floats, px: float, py: float) -> np.ndarray:
        """Tell whether a block lies between."""
        # the block that shows it does not hide it
        others = (np.abs(px - self._blocks[:, 0]) > self._blocks[:, 2]) | (
            np.abs(py - self._blocks[:, 1]) > self._blocks[:, 3]
        )
        safe_x, safe_y = (np.where(np.abs(v) < 1e-12, 1e-12, v)[..., None] for v in (px - x, py - y))
        enters, leaves = self._slabs(x[..., None], y[..., None], safe_x, safe_y, self._blocks[others])
        hidden: np.ndarray = np.any((leaves >= enters) & (leaves > 0) & (enters < 1), axis=-1)
        return hidden
