"""Speed levels: walked through with two buttons, each level with its own share for moving and for turning."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

__all__ = ["PRESSED", "walk"]

Floats = NDArray[np.float64]

PRESSED = 0.5
"""A button counts as pressed from here on; buttons read 0 to 1."""


def walk(level: Floats, before: Floats, now: Floats, count: int) -> Floats:
    """Step the level up or down where a button has just been pressed.

    Parameters
    ----------
    level : B float64
        The level's index, 0 the slowest.
    before, now : B + (2,) float64
        What the buttons up and down read a tick ago and now; NaN counts as not pressed.
    count : int
        How many levels there are.

    Returns
    -------
    B float64
        The new index; it stays within 0 and count - 1.
    """
    pressed = now >= PRESSED
    if not np.count_nonzero(pressed):
        return level
    fresh = pressed & ~(before >= PRESSED)
    stepped: Floats = np.minimum(np.maximum(level + fresh[..., 0] - fresh[..., 1], 0.0), count - 1.0)
    return stepped
