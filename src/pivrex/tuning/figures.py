"""Figures of a step response: rise time, overshoot, settling time, steady-state error, control effort."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from pivrex.line.stage import Floats

__all__ = ["Figures", "figures_of"]

BAND = 0.05
"""Settled is within this share of the step."""


class Figures(NamedTuple):
    """The figures of a response, for each of a batch, G.

    Attributes
    ----------
    rise_s : float64
        From a tenth to nine tenths of the way; NaN if it never gets there. Of a push: until the farthest point.
    overshoot : float64
        How far past the target, at least 0, in the response's unit; of a push how far it was turned away.
    settle_s : float64
        After this it stays within 5 % of the step (at least ``least``); NaN if it does not.
    final : float64
        What is missing at the end: the mean of the last tenth, target less value.
    effort : float64
        Root mean square of what the loop gave.
    back_s, turned : float64
        Of a push that followed a step: after which time it was back, and how far it was turned away; NaN where none did.
    """

    rise_s: Floats
    overshoot: Floats
    settle_s: Floats
    final: Floats
    effort: Floats
    back_s: Floats
    turned: Floats


def figures_of(t_s: Floats, value: Floats, begin: Floats, end: Floats, effort: Floats, least: float = 0.0) -> Figures:
    """Return the figures of answers.

    Parameters
    ----------
    t_s : (N,) float64
    value : (G, N) float64
    begin, end : (G,) float64
        Where it starts and where it should end. If both are the same, the answer is one to a disturbance.
    effort : (G, N) float64
    least : float
        The narrowest band that counts as settled.

    Notes
    -----
    Rise from 10 to 90 %, overshoot and settling as in Åström & Murray, Feedback Systems, section 6.3.
    """
    step = end - begin
    away = np.abs(value - end[:, None])
    disturbed = np.abs(step) < 1e-9
    farthest = away.max(axis=1)
    size = np.where(disturbed, farthest, np.abs(step))
    share = np.where(disturbed[:, None], 0.0, (value - begin[:, None]) / np.where(disturbed, 1.0, step)[:, None])
    rise = _first(t_s, share >= 0.9) - _first(t_s, share >= 0.1)
    peak = t_s[np.argmax(away, axis=1)] - t_s[0]
    over = np.maximum((share.max(axis=1) - 1.0) * np.abs(step), 0.0)
    outside = away > np.maximum(BAND * size, least)[:, None]
    last = outside.shape[1] - 1 - np.argmax(outside[:, ::-1], axis=1)
    settle = np.where(outside.any(axis=1), t_s[np.minimum(last + 1, len(t_s) - 1)] - t_s[0], 0.0)
    settle = np.where(outside[:, -1], np.nan, settle)
    tail = max(1, len(t_s) // 10)
    return Figures(
        rise_s=np.where(disturbed, peak, rise),
        overshoot=np.where(disturbed, farthest, over),
        settle_s=settle,
        final=end - value[:, -tail:].mean(axis=1),
        effort=np.sqrt((effort**2).mean(axis=1)),
        back_s=np.full(len(step), np.nan),
        turned=np.full(len(step), np.nan),
    )


def _first(t_s: Floats, flags: NDArray[np.bool_]) -> Floats:
    """The time of the first tick at which a flag is set; NaN if it never is."""
    found: Floats = np.where(flags.any(axis=1), t_s[np.argmax(flags, axis=1)], np.nan)
    return found
