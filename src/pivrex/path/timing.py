"""The time law: the fastest drive along a path within its limits."""

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


class _Rows(NamedTuple):
    """The limits of the acceleration a in each of N - 1 steps, by the square z of the speed at its beginning: |a + lean·z| <= room, (2·R, N
    - 1) each, as seen from both ends of the step.
    """

    room: Floats
    lean: Floats


def _rows(s: Floats, bounds: Bounds) -> _Rows:
    """Return the bounds of each step.

    Notes
    -----
    Between two places a plan goes along chords, so a number r·v changes by r·a + r'·v², with r' the chord's slope. At the beginning
    v² = z, at the end z + 2·Δs·a, which makes (1 + 2·Δs·r'/r)·a + r'/r·z of it.
    """
    r, gone = bounds.by_rise, np.diff(s)
    slope = np.where(gone > 0, np.diff(r) / np.where(gone > 0, gone, 1.0), bounds.by_square[:, :-1])
    rooms, leans = [], []
    for at, ds in ((r[:, :-1], 0.0), (r[:, 1:], 2.0 * gone)):
        live = np.abs(at) > STILL
        lean = np.where(live, slope / np.where(live, at, 1.0), 0.0)
        steep = 1.0 + ds * lean
        live &= steep > STILL
        steep = np.where(live, steep, 1.0)
        rooms.append(np.where(live, bounds.most[:, None] / np.where(live, np.abs(at), 1.0) / steep, np.inf))
        leans.append(np.where(live, lean / steep, 0.0))
    return _Rows(np.concatenate(rooms), np.concatenate(leans))


def _max_square(bounds: Bounds, rows: _Rows) -> Floats:
    """Return the largest z at each place for which some acceleration keeps to all bounds.

    Notes
    -----
    Two of them leave room for a common a if z·|lean₁ - lean₂| ≤ room₁ + room₂; where r = 0 it is |q|·z ≤ m.
    """
    most = bounds.caps.min(axis=0)
    r, q, m = bounds.by_rise, bounds.by_square, bounds.most[:, None]
    lone = (np.abs(r) < STILL) & (np.abs(q) > STILL)
    most = np.minimum(most, np.where(lone, m / np.maximum(np.abs(q), STILL), np.inf).min(axis=0))
    room, lean = rows
    for k in range(len(room) - 1):
        apart, together = np.abs(lean[k] - lean[k + 1 :]), room[k] + room[k + 1 :]
        most[:-1] = np.minimum(
            most[:-1], np.where(apart > STILL, together / np.maximum(apart, STILL), np.inf).min(axis=0)
        )
    return most


def time_law(s: Floats, bounds: Bounds) -> TimeLaw:
    """Return the quickest drive along a curve within bounds, at rest at both ends.

    Parameters
    ----------
    s : (N,) float64
        Ways up to each place, in m.
    bounds : Bounds

    Notes
    -----
    With z = v², z' = 2·a. Backwards: the largest z from which the next place can still be entered as slowly as it must; forwards: the
    largest acceleration that stays below that. Each step is a linear programme in a and z with one answer in closed form,
    the least of a few lines, which keep to the bounds at both ends of the step. (Reachability analysis with collocation at both ends:
    Pham & Pham 2018; the two passes: Bobrow, Dubowsky & Gibson 1985.)
    """
    n = len(s)
    rows = _rows(s, bounds)
    steps = list(zip((2.0 * np.diff(s)).tolist(), rows.room.T.tolist(), rows.lean.T.tolist(), strict=True))
    z = _max_square(bounds, rows).tolist()
    for i in range(n - 2, -1, -1):
        ds, rooms, leans = steps[i]
        best, after = z[i], z[i + 1]
        for c, b in zip(rooms, leans, strict=True):
            # the hardest braking that this bound allows, a = -c - b·z, must reach the next place: z + ds·a <= after
            steep = 1.0 - ds * b
            if steep > STILL:
                reached = (after + ds * c) / steep
                best = min(best, reached)
        z[i] = best
    rise = [0.0] * n
    for i in range(n - 1):
        ds, rooms, leans = steps[i]
        now = z[i]
        a = min(c - b * now for c, b in zip(rooms, leans, strict=True))
        after = now + ds * a
        if after < z[i + 1]:
            z[i + 1] = after if after > 0.0 else 0.0
        rise[i] = (z[i + 1] - now) / ds
    rise[-1] = rise[-2]
    square = np.array(z)
    speed, rises = np.sqrt(square), np.array(rise)
    both = speed[1:] + speed[:-1]
    # where both ends of a step are at rest it is crossed from and to rest at the acceleration that is left
    crawl = np.sqrt(np.maximum(np.diff(s), 0.0) / np.maximum(np.minimum(rows.room, 1e6).min(axis=0), STILL)) * 2
    times = np.where(both > STILL, np.diff(s) * 2 / np.maximum(both, STILL), crawl)
    return TimeLaw(np.concatenate(([0.0], np.cumsum(times))), speed, rises, _by(bounds, square, rises))


def _by(bounds: Bounds, square: Floats, rise: Floats) -> np.ndarray:
    """Return which bound is the nearest to being passed at each place, -1 where none is near."""
    caps = np.where(np.isfinite(bounds.caps), square / np.maximum(bounds.caps, STILL), 0.0)
    caps = np.where(bounds.caps == 0.0, 1.0, caps)
    last = np.concatenate((rise[:1], rise[:-1]))
    used = [np.abs(bounds.by_rise * a + bounds.by_square * square) / bounds.most[:, None] for a in (rise, last)]
    shares = np.concatenate((caps, np.maximum(*used)))
    by = shares.argmax(axis=0)
    return np.where(shares[by, np.arange(len(square))] > AT_BOUND, by, -1)
