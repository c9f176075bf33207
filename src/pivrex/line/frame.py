"""Frame: a motion asked for along the field's directions, turned into the robot's own."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

__all__ = ["to_robot"]

Floats = NDArray[np.float64]


def to_robot(twist: Floats, heading_rad: float) -> Floats:
    """Turn a field-relative twist, B + (3,), into the robot-relative one: its velocity rotated by -heading."""
    c, s = np.cos(heading_rad), np.sin(heading_rad)
    turned = np.array(twist, np.float64)
    turned[..., 0] = c * twist[..., 0] + s * twist[..., 1]
    turned[..., 1] = c * twist[..., 1] - s * twist[..., 0]
    return turned
