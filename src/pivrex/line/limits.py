"""Limits: what happens when wheels are asked for more than they can."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

__all__ = ["clip_each", "clip_vectors", "give_way", "scale_all", "scale_vectors"]

Floats = NDArray[np.float64]

_TINY = 1e-300


def scale_all(asked: Floats, top: Floats) -> Floats:
    """Slow all wheels by one factor so that none passes its top speed; the direction of motion stays.

    Parameters
    ----------
    asked : B + (W,) float64
        Wheel surface speeds in m/s.
    top : (W,) float64
        The fastest that each wheel can, in m/s, above 0.

    Returns
    -------
    B + (W,) float64
        asked / max(1, max over wheels of |asked|/top).
    """
    most = np.maximum(np.maximum.reduce(np.abs(asked) / top, axis=-1, keepdims=True), 1.0)
    given: Floats = asked / most
    return given


def clip_each(asked: Floats, top: Floats) -> Floats:
    """Cut each wheel at its own top speed; shapes as in `scale_all`. The direction of motion changes."""
    return np.maximum(np.minimum(asked, top), -top)


def scale_vectors(asked: Floats, top: Floats) -> Floats:
    """Like `scale_all`, for the velocity vectors of steered wheels, B + (W, 2)."""
    size = np.hypot(asked[..., 0], asked[..., 1])
    most = np.maximum(np.maximum.reduce(size / top, axis=-1, keepdims=True), 1.0)
    given: Floats = asked / most[..., None]
    return given


def clip_vectors(asked: Floats, top: Floats) -> Floats:
    """Like `clip_each`, for the velocity vectors of steered wheels, B + (W, 2); each keeps its direction."""
    most = np.maximum(np.hypot(asked[..., 0], asked[..., 1]) / top, 1.0)
    given: Floats = asked / most[..., None]
    return given


def give_way(kept: Floats, yielding: Floats, top: Floats) -> tuple[Floats, Floats]:
    """Find how much of one part of a motion is left when another part comes first.

    Parameters
    ----------
    kept, yielding : B + (W, D) float64
        What both parts ask of each wheel, in m/s: speeds (D = 1) or velocity vectors (D = 2).
    top : (W,) float64
        The fastest that each wheel can, in m/s, above 0.

    Returns
    -------
    k, α : B float64
        Both in [0, 1]: the motion k·kept + α·yielding passes no wheel's top speed, k is as large as it can be by
        itself, and α as large as it can be then.

    Notes
    -----
    For each wheel α is the larger root of |k·a + α·b|² = T², which is α = (-a·b + √((a·b)² + b²(T² - a²)))/b², taken
    as (T² - a²)/(a·b + √…), which does not cancel.
    """
    size = np.sqrt((kept * kept).sum(axis=-1))
    k = np.minimum((top / np.maximum(size, _TINY)).min(axis=-1), 1.0)
    a = kept * k[..., None, None]
    cross, square = (a * yielding).sum(axis=-1), (yielding * yielding).sum(axis=-1)
    room = np.maximum(top * top - (a * a).sum(axis=-1), 0.0)
    root = np.sqrt(cross * cross + square * room)
    below = cross + root
    with np.errstate(divide="ignore", invalid="ignore", over="ignore"):
        # where a·b < 0 the sum would cancel, and the other form is the sound one
        share = np.where(cross > 0, room / below, (root - cross) / square)
    share = np.where(square > _TINY, share, 1.0)
    return k, np.minimum(share.min(axis=-1), 1.0)
