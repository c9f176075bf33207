"""Laws: what the shaped fractions mean. Every law ends in a twist, so any chassis can follow any law."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

__all__ = ["LAW_FUNCTIONS", "arcade", "planar", "tank", "triggers"]

Floats = NDArray[np.float64]


def tank(channels: Floats) -> Floats:
    """A stick for each side: forward = (left + right)/2, turn = (right - left)/2.

    Parameters
    ----------
    channels : B + (2,) float64
        left, right in [-1, 1].

    Returns
    -------
    B + (3,) float64
        forward, left, turn as fractions of full.

    Notes
    -----
    With V the full wheel speed and full turn 2V/track this is v = (left + right)/2·V and
    ω = (right - left)/track·V, so each side runs at its own stick's fraction.
    """
    left, right = channels[..., 0], channels[..., 1]
    twist = np.zeros((*channels.shape[:-1], 3))
    twist[..., 0] = (left + right) * 0.5
    twist[..., 2] = (right - left) * 0.5
    return twist


def arcade(channels: Floats) -> Floats:
    """One function to move and one to turn, from one stick or two.

    Parameters
    ----------
    channels : B + (2,) float64
        forward, turn in [-1, 1]; turning left is +.

    Returns
    -------
    B + (3,) float64
        forward, left, turn as fractions of full.

    Notes
    -----
    On a two-sided chassis left = forward + right-turn and right = forward - right-turn: forward 0.40 with the
    stick 0.30 to the right gives left 0.70 and right 0.10.
    """
    twist = np.zeros((*channels.shape[:-1], 3))
    twist[..., ::2] = channels
    return twist


def triggers(channels: Floats) -> Floats:
    """One trigger ahead, one back, a stick to turn; both triggers pressed alike cancel.

    Parameters
    ----------
    channels : B + (3,) float64
        ahead in [0, 1], back in [0, 1], turn in [-1, 1].

    Returns
    -------
    B + (3,) float64
        forward = ahead - back, left, turn as fractions of full.
    """
    twist = np.zeros((*channels.shape[:-1], 3))
    twist[..., 0] = channels[..., 0] - channels[..., 1]
    twist[..., 2] = channels[..., 2]
    return twist


def planar(channels: Floats) -> Floats:
    """Two functions to move and one to turn.

    Parameters
    ----------
    channels : B + (3,) float64
        forward, sideways, turn in [-1, 1]; left and turning left are +.

    Returns
    -------
    B + (3,) float64
        forward, left, turn as fractions of full.
    """
    return channels


LAW_FUNCTIONS: dict[str, Callable[[Floats], Floats]] = {
    "tank": tank,
    "arcade": arcade,
    "split arcade": arcade,
    "triggers": triggers,
    "planar": planar,
}
"""The function of each law; one-stick and split arcade differ only in the axes they read."""
