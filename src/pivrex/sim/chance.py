"""Random numbers for a batch of robots: each has its own seed and draws by counting, so no robot's numbers depend on the others."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from pivrex.line.stage import Floats

__all__ = ["draw"]

Counts = NDArray[np.uint64]

_STEP, _FIRST, _SECOND = (np.uint64(n) for n in (0x9E3779B97F4A7C15, 0xBF58476D1CE4E5B9, 0x94D049BB133111EB))


def draw(seed: Counts | int, count: Counts | int, many: int) -> Floats:
    """Return numbers evenly spread over [0, 1).

    Parameters
    ----------
    seed : B uint64
        Of each robot.
    count : B uint64 or int
        Which draw of the robot it is, such as its tick; the same seed and count give the same numbers.
    many : int
        How many numbers.

    Returns
    -------
    B + (many,) float64

    Notes
    -----
    The finaliser of SplitMix64 on a counter: the seed is mixed, then seed + (count·many + k + 1)·φ is. (Steele, Lea &
    Flood, Fast Splittable Pseudorandom Number Generators, 2014.)
    """
    with np.errstate(over="ignore"):
        start = _mixed(np.asarray(np.asarray(seed, np.uint64) + _STEP, np.uint64))[..., None]
        at = np.asarray(count, np.uint64)[..., None] * np.uint64(many) + np.arange(1, many + 1, dtype=np.uint64)
        bits = _mixed(np.asarray(start + at * _STEP, np.uint64)) >> np.uint64(11)
        return bits.astype(np.float64) * 2.0**-53


def _mixed(z: Counts) -> Counts:
    z = (z ^ (z >> np.uint64(30))) * _FIRST
    z = (z ^ (z >> np.uint64(27))) * _SECOND
    return z ^ (z >> np.uint64(31))
