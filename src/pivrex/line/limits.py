"""Limits: what happens when wheels are asked for more than they can."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

__all__ = ["clip_each", "scale_all"]

Floats = NDArray[np.float64]


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
    most = np.maximum(np.abs(asked) / top, 1.0).max(axis=-1, keepdims=True)
    given: Floats = asked / most
    return given


def clip_each(asked: Floats, top: Floats) -> Floats:
    """Cut each wheel at its own top speed; shapes as in `scale_all`. The direction of motion changes."""
    return np.maximum(np.minimum(asked, top), -top)
