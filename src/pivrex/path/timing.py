"""The time law: as fast along a path as its bounds allow, and no faster."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from pivrex.line.stage import Floats
from pivrex.path.bounds import Bounds

__all__ = ["TimeLaw", "time_law"]

AT_BOUND = 0.98
STILL = 1e-9


class TimeLaw(NamedTuple):
    """When a robot is where on a curve of N places.

    Attributes
    ----------
    t : (N,) float64
        In s.
    speed : (N,) float64
        In m/s.
    rise : (N,) float64
        The path acceleration from each place to the next, in m/s²; the last is the one before.
    by : (N,) int
        Which bound holds it there: first the caps, then the rises; -1 for none.
    """

    t: Floats
    speed: Floats
    rise: Floats
    by: np.ndarray

    @property
    def time_s(self) -> float:
        return float(self.t[-1])


def _most_square(bounds: Bounds) -> Floats:
    """Give the largest z at each place for which some acceleration keeps to all bounds.

    Notes
    -----
    Of two bounds |r·a + q·z| ≤ m there is a common a if z·|q₁·r₂ - q₂·r₁| ≤ m₁·|r₂| + m₂·|r₁|; with r₁ = 0 that is |q₁|·z ≤ m₁.
    """
    most = bounds.caps.min(axis=0)
    r, q, m = bounds.by_rise, bounds.by_square, bounds.most[:, None]
    lone = np.abs(r) < STILL
    most = np.minimum(most, np.where(lone & (np.abs(q) > STILL), m / np.maximum(np.abs(q), STILL), np.inf).min(axis=0))
    for k in range(len(r) - 1):
        cross = np.abs(q[k] * r[k + 1 :] - q[k + 1 :] * r[k])
        room = m[k] * np.abs(r[k + 1 :]) + m[k + 1 :] * np.abs(r[k])
        most = np.minimum(most, np.where(cross > STILL, room / np.maximum(cross, STILL), np.inf).min(axis=0))
    return most


def time_law(s: Floats, bounds: Bounds) -> TimeLaw:
    """Give the quickest drive along a curve within bounds, at rest at both ends.

    Parameters
    ----------
    s : (N,) float64
        Ways up to each place, in m.
    bounds : Bounds

    Notes
    -----
    With z = v², z' = 2·a. Backwards: the largest z from which the next place can still be entered as slowly as it must; forwards: the
    largest acceleration that stays below that. Each step is a linear programme in a and z with one answer in closed form,
    the least of a few lines (reachability analysis: Pham & Pham 2018; the two passes: Bobrow, Dubowsky & Gibson 1985).
    """
    n = len(s)
    most = _most_square(bounds)
    r, q = bounds.by_rise, bounds.by_square
    live = np.abs(r) > STILL
    safe = np.where(live, r, 1.0)
    room = np.where(live, bounds.most[:, None] / np.abs(safe), np.inf)  # |a + lean·z| <= room
    lean = np.where(live, q / safe, 0.0)
    rooms, leans = room.T.tolist(), lean.T.tolist()
    twice = (2.0 * np.diff(s)).tolist()
    z = most.tolist()
    for i in range(n - 2, -1, -1):
        ds = twice[i]
        best, after = z[i], z[i + 1]
        for c, b in zip(rooms[i], leans[i], strict=True):
            # the hardest braking that this bound allows, a = -c - b·z, must reach the next place: z + ds·a <= after
            steep = 1.0 - ds * b
            if steep > STILL:
                reached = (after + ds * c) / steep
                best = min(best, reached)
        z[i] = best
    rise = [0.0] * n
    for i in range(n - 1):
        ds, now = twice[i], z[i]
        a = min(c - b * now for c, b in zip(rooms[i], leans[i], strict=True))
        after = now + ds * a
        if after < z[i + 1]:
            z[i + 1] = after if after > 0.0 else 0.0
        rise[i] = (z[i + 1] - now) / ds
    rise[-1] = rise[-2]
    square = np.array(z)
    speed, rises = np.sqrt(square), np.array(rise)
    both = speed[1:] + speed[:-1]
    # where both ends of a step are at rest it is crossed from and to rest at the acceleration that is left
    crawl = np.sqrt(np.maximum(np.diff(s), 0.0) / np.maximum(np.minimum(room, 1e6).min(axis=0)[:-1], STILL)) * 2
    steps = np.where(both > STILL, np.diff(s) * 2 / np.maximum(both, STILL), crawl)
    return TimeLaw(np.concatenate(([0.0], np.cumsum(steps))), speed, rises, _by(bounds, square, rises))


def _by(bounds: Bounds, square: Floats, rise: Floats) -> np.ndarray:
    """Give which bound is the nearest to being passed at each place, -1 where none is near."""
    caps = np.where(np.isfinite(bounds.caps), square / np.maximum(bounds.caps, STILL), 0.0)
    caps = np.where(bounds.caps == 0.0, 1.0, caps)
    last = np.concatenate((rise[:1], rise[:-1]))
    used = [np.abs(bounds.by_rise * a + bounds.by_square * square) / bounds.most[:, None] for a in (rise, last)]
    shares = np.concatenate((caps, np.maximum(*used)))
    by = shares.argmax(axis=0)
    return np.where(shares[by, np.arange(len(square))] > AT_BOUND, by, -1)
