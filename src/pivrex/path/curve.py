"""The curve: a smooth line through points, its length, directions and bends."""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache
from typing import NamedTuple

import numpy as np

from pivrex.line.stage import Floats

__all__ = ["Curve", "Spline", "curve_of", "spline_through"]

STIFF = 1 / 16
"""How much a change of the bend counts compared with the bend itself, for segments of length 1: a little rounder than a thin lath."""

STEP_M = 0.01
MAX_SAMPLES = 1000
MIN_EACH, MAX_EACH = 6, 400
FINE, FINER = 0.15, 8
"""A step in which the bend changes by more than this share of itself is taken in more steps, at most so many."""

MAX_FINER = 4000
"""Of more places none is added: points that stand so close say themselves how the bend changes."""

FINE_BEND_PER_M = 0.5
"""A bend less than this counts as this: where it is nearly straight nothing changes much."""

GAUSS_AT = np.array([0.5 - np.sqrt(0.15), 0.5, 0.5 + np.sqrt(0.15)])
GAUSS_WEIGHT = np.array([5.0, 8.0, 5.0]) / 18.0


class Spline(NamedTuple):
    """N quintic pieces, each over its own span.

    Attributes
    ----------
    spans : (N,) float64
        Chord lengths: the parameter runs over each from 0 to that.
    parts : (N, 6, D) float64
        Coefficients of 1, u, u², ... u⁵.
    """

    spans: Floats
    parts: Floats

    def at(self, piece: np.ndarray, u: Floats, order: int = 0) -> Floats:
        """Return the ``order``-th derivative at u, M each, as (M, D)."""
        powers = np.arange(6)
        factor = np.ones(6)
        for k in range(order):
            factor = factor * (powers - k)
        lifted = np.maximum(powers - order, 0)
        weights = factor * np.power(u[:, None], lifted)
        return np.einsum("mk,mkd->md", weights, self.parts[piece])


@lru_cache(1)
def _unit() -> tuple[Floats, Floats]:
    """For a span of 1: the coefficients from place, slope and bend at both ends, and what such a piece costs."""
    ends: Floats = np.zeros((6, 6))
    for order in range(3):
        for k in range(order, 6):
            factor = np.prod(np.arange(k, k - order, -1)) if order else 1.0
            ends[order, k] = factor if k == order else 0.0
            ends[3 + order, k] = factor
    solved: Floats = np.asarray(np.linalg.inv(ends), np.float64)
    costs: Floats = np.zeros((6, 6))
    for order, weight in ((2, 1.0), (3, STIFF)):
        for i in range(order, 6):
            for j in range(order, 6):
                a, b = (np.prod(np.arange(k, k - order, -1)) for k in (i, j))
                costs[i, j] += weight * a * b / (i + j - 2 * order + 1)
    cost: Floats = solved.T @ costs @ solved
    return solved, cost


def spline_through(points: Floats, spans: Floats, directions: Floats | None = None) -> Spline:
    """Return the smooth spline through points.

    Parameters
    ----------
    points : (N + 1, D) float64
    spans : (N,) float64
        The parameter's length of each piece, > 0.
    directions : (N + 1,) float64, optional
        For D = 2: the angle of the curve at a point; NaN where it is free.

    Returns
    -------
    Spline

    Notes
    -----
    Quintic pieces that share place, slope and second derivative, so direction and curvature are continuous. A slope in a given direction has
    length 1. What is left free makes
    ∫ |p''|² + h²/16·|p'''|² least: a lath that also dislikes changes of its bend. With places given that is a quadratic form in slopes
    and second derivatives, whose least value is a block tridiagonal system (the finite element method with quintic Hermite elements;
    Strang & Fix 1973, ch. 1.7); it is solved by block elimination. Chord lengths as parameter keep uneven points from making
    loops (Ahlberg, Nilson & Walsh 1967).
    """
    n, d = len(points), points.shape[1]
    solved, unit = _unit()
    h = spans[:, None]
    scale = np.concatenate((np.ones_like(h), h, h * h), axis=1)
    both = np.concatenate((scale, scale), axis=1)
    cost = unit * both[:, :, None] * both[:, None, :] / spans[:, None, None] ** 3
    free = np.array([1, 2])
    blocks = np.zeros((n, 2, 2))
    blocks[:-1] += cost[:, 1:3, 1:3]
    blocks[1:] += cost[:, 4:6, 4:6]
    coupling = cost[:, 1:3, 4:6]
    places = np.stack((points[:-1], points[1:]), axis=1)
    right = np.zeros((n, 2, d))
    right[:-1] -= np.einsum("nij,njd->nid", cost[:, 1:3][:, :, [0, 3]], places)
    right[1:] -= np.einsum("nij,njd->nid", cost[:, 4:6][:, :, [0, 3]], places)
    fixed = directions is not None and bool(np.isfinite(directions).any())
    if not fixed:
        nodes = _eliminated(blocks, coupling, right)
    else:
        assert directions is not None
        nodes = _with_directions(blocks, coupling, right, directions)
    ends = (
        np.concatenate((places[:, :1], nodes[:-1][:, free - 1], places[:, 1:], nodes[1:][:, free - 1]), axis=1)
        * both[:, :, None]
    )
    return Spline(spans, np.einsum("ij,njd->nid", solved, ends) / np.power(h, np.arange(6))[:, :, None])


def _eliminated(blocks: Floats, coupling: Floats, right: Floats) -> Floats:
    """Solve a block tridiagonal system: ``blocks`` on the diagonal, ``coupling`` above it, its transpose below."""
    n = len(blocks)
    ups, known = np.empty_like(coupling), np.empty_like(right)
    left, rest = blocks[0], right[0]
    for k in range(n):
        if k:
            left = blocks[k] - coupling[k - 1].T @ ups[k - 1]
            rest = right[k] - coupling[k - 1].T @ known[k - 1]
        if k < n - 1:
            both = np.linalg.solve(left, np.concatenate((coupling[k], rest), axis=1))
            ups[k], known[k] = both[:, : coupling.shape[2]], both[:, coupling.shape[2] :]
        else:
            known[k] = np.linalg.solve(left, rest)
    for k in range(n - 2, -1, -1):
        known[k] = known[k] - ups[k] @ known[k + 1]
    return known


def _with_directions(blocks: Floats, coupling: Floats, right: Floats, directions: Floats) -> Floats:
    """Solve it in the plane, with slopes that are known at some points: of length 1 in their direction."""
    n = len(blocks)
    keeps = np.isfinite(directions)
    angle = np.where(keeps, directions, 0.0)
    c, s = np.cos(angle), np.sin(angle)
    turn = np.zeros((n, 4, 4))  # from along, across, bend x, bend y to slope x, bend x, slope y, bend y
    turn[:, 0, 0], turn[:, 0, 1], turn[:, 2, 0], turn[:, 2, 1] = c, -s, s, c
    turn[:, 1, 2] = turn[:, 3, 3] = 1.0
    big, over = np.zeros((n, 4, 4)), np.zeros((n - 1, 4, 4))
    for k in (0, 2):
        big[:, k : k + 2, k : k + 2] = blocks
        over[:, k : k + 2, k : k + 2] = coupling
    big = np.einsum("nji,njk,nkl->nil", turn, big, turn)
    over = np.einsum("nji,njk,nkl->nil", turn[:-1], over, turn[1:])
    load = np.einsum("nji,nj->ni", turn, np.concatenate((right[:, :, 0], right[:, :, 1]), axis=1))
    known = np.zeros((n, 4))
    known[keeps, 0] = 1.0
    load = load - np.einsum("nij,nj->ni", big, known)
    load[:-1] -= np.einsum("nij,nj->ni", over, known[1:])
    load[1:] -= np.einsum("nji,nj->ni", over, known[:-1])
    for k in (0, 1):
        big[keeps, k, :] = big[keeps, :, k] = 0.0
        big[keeps, k, k], load[keeps, k] = 1.0, known[keeps, k]
        over[keeps[:-1], k, :] = 0.0
        over[keeps[1:], :, k] = 0.0
    found = np.einsum("nij,nj->ni", turn, _eliminated(big, over, load[:, :, None])[:, :, 0])
    return np.stack((found[:, :2], found[:, 2:]), axis=2)


class Curve(NamedTuple):
    """A curve, looked at in N places.

    Attributes
    ----------
    s : (N,) float64
        The length of way up to there, in m.
    x, y : (N,) float64
        In m.
    angle : (N,) float64
        Its direction, in rad, unwrapped.
    bend : (N,) float64
        Its curvature, counter-clockwise, in 1/m.
    bends : (N,) float64
        How that changes with the way, in 1/m².
    pace : (N,) float64
        How fast the curve goes by its parameter; about 1, and near 0 at a cusp.
    of : (P,) int
        Where each of its points is among the places.
    """

    s: Floats
    x: Floats
    y: Floats
    angle: Floats
    bend: Floats
    bends: Floats
    pace: Floats
    of: np.ndarray

    @property
    def length_m(self) -> float:
        return float(self.s[-1])


def curve_of(
    points: Floats,
    directions: Floats | None = None,
    step_m: float = STEP_M,
    circles: Sequence[tuple[float, float, float]] = (),
) -> Curve:
    """Return the curve through points, (P, 2) in m, that run in ``directions``, (P,) in rad, NaN where that is free.

    Its places stand closer where the bend changes, and there is one just inside each crossing of ``circles`` (x, y, radius in m), so
    that what bounds the speed in a place bounds it between the places too.

    Notes
    -----
    The length of each step is its integral of |p'| by three Gauss points, exact to about the sixth power of the step.
    """
    spans = np.hypot(*np.diff(points, axis=0).T)
    spline = spline_through(points, spans, directions)
    step = max(step_m, float(spans.sum()) / MAX_SAMPLES)
    least = min(max(1, MAX_SAMPLES // len(spans)), MIN_EACH)  # where points stand closer than any step, each is a place
    each = np.clip(np.ceil(spans / step), least, MAX_EACH).astype(int)
    piece = np.repeat(np.arange(len(spans)), each)
    first = np.cumsum(each) - each
    within = (np.arange(len(piece)) - first[piece]) / each[piece]
    whole = np.append(piece + within, float(len(spans)))  # the piece, and how far in it
    whole = _finer(spline, whole) if len(whole) < MAX_FINER else whole
    whole = np.union1d(whole, _crossings(spline, whole, circles))
    piece, u = _pieces(spline, whole)
    p, p1, p2, p3 = (spline.at(piece, u, k) for k in range(4))
    steps = np.diff(whole) * spans[piece[:-1]]
    s = np.zeros(len(piece))
    speeds = [np.hypot(*spline.at(piece[:-1], u[:-1] + g * steps, 1).T) for g in GAUSS_AT]
    s[1:] = np.cumsum(steps * np.einsum("g,gn->n", GAUSS_WEIGHT, np.array(speeds)))
    square = p1[:, 0] ** 2 + p1[:, 1] ** 2
    safe = np.maximum(square, 1e-18)
    cross = p1[:, 0] * p2[:, 1] - p1[:, 1] * p2[:, 0]
    bend = cross / safe**1.5
    grows = (p1[:, 0] * p3[:, 1] - p1[:, 1] * p3[:, 0]) / safe**1.5 - 3 * cross * (p1 * p2).sum(axis=1) / safe**2.5
    return Curve(
        s, p[:, 0], p[:, 1], np.unwrap(np.arctan2(p1[:, 1], p1[:, 0])), bend, grows / np.sqrt(safe), np.sqrt(square),
        np.searchsorted(whole, np.arange(len(spans) + 1.0)),
    )  # fmt: skip


def _pieces(spline: Spline, whole: Floats) -> tuple[np.ndarray, Floats]:
    """Return the piece of each place, and its parameter there, from pieces and shares of them."""
    piece = np.minimum(whole.astype(int), len(spline.spans) - 1)
    return piece, (whole - piece) * spline.spans[piece]


def _finer(spline: Spline, whole: Floats) -> Floats:
    """Return distances along the curve, closer to each other where the curvature changes."""
    piece, u = _pieces(spline, whole)
    p1, p2 = (spline.at(piece, u, k) for k in (1, 2))
    bend = (p1[:, 0] * p2[:, 1] - p1[:, 1] * p2[:, 0]) / np.maximum((p1 * p1).sum(axis=1), 1e-12) ** 1.5
    size = np.maximum(np.maximum(np.abs(bend[1:]), np.abs(bend[:-1])), FINE_BEND_PER_M)
    more = np.clip(np.ceil(np.abs(np.diff(bend)) / size / FINE), 1, FINER).astype(int)
    first = np.repeat(whole[:-1], more)
    count = np.arange(len(first)) - np.repeat(np.cumsum(more) - more, more)
    return np.append(first + count * np.repeat(np.diff(whole) / more, more), whole[-1])


def _crossings(spline: Spline, whole: Floats, circles: Sequence[tuple[float, float, float]]) -> Floats:
    """Return where the curve crosses circles, each place just inside, found by halving."""

    def inside(places: Floats, x: float, y: float, radius: float) -> np.ndarray:
        p = spline.at(*_pieces(spline, places))
        return np.hypot(p[:, 0] - x, p[:, 1] - y) <= radius

    found: list[Floats] = [np.zeros(0)]
    for circle in circles:
        within = inside(whole, *circle)
        at = np.flatnonzero(within[1:] != within[:-1])
        enters = within[at + 1]
        out, into = np.where(enters, whole[at], whole[at + 1]), np.where(enters, whole[at + 1], whole[at])
        for _ in range(40):
            middle = (out + into) / 2
            now = inside(middle, *circle)
            out, into = np.where(now, out, middle), np.where(now, middle, into)
        found.append(into)
    return np.concatenate(found)
