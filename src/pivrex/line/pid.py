"""One loop for angles and positions: proportional, integral with anti-windup, and a brake on the present rate."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from pivrex.line.layout import Floats

__all__ = ["PidSettings", "pid"]


@dataclass(frozen=True)
class PidSettings:
    """The gains of N loops.

    Attributes
    ----------
    p : (N,) float64
        What is given for each unit that is missing.
    i : (N,) float64
        What is given for each unit that stays missing for a second.
    d : (N,) float64
        What is taken off for each unit per second of the present rate.
    largest : (N,) float64
        The most that is given, either way.
    any_i, any_d : bool
        What there is to compute.
    """

    p: Floats
    i: Floats
    d: Floats
    largest: Floats
    any_i: bool
    any_d: bool


def pid(
    settings: PidSettings, missed: Floats, error: Floats, rate: Floats | float, dt_s: float
) -> tuple[Floats, Floats]:
    """Give what a loop gives, and its integral after the tick.

    Parameters
    ----------
    settings : PidSettings
    missed : B + (N,) float64
        The integral of the error, in units · s.
    error : B + (N,) float64
        Target less measured; angles are wrapped by whoever chose the target.
    rate : B + (N,) float64
        How fast the measured value changes, per s; a change of the target makes no jump.
    dt_s : float

    Returns
    -------
    B + (N,) float64, B + (N,) float64
        p·e + i·∫e - d·rate within ±largest, and the integral, which waits while the limit holds (anti-windup).

    Notes
    -----
    Åström & Murray, Feedback Systems, ch. 11.
    """
    wanted = settings.p * error
    summed = missed
    if settings.any_i:
        summed = missed + error * dt_s
        wanted = wanted + settings.i * summed
    if settings.any_d:
        wanted = wanted - settings.d * rate
    given = np.maximum(np.minimum(wanted, settings.largest), -settings.largest)
    if settings.any_i:
        summed = np.where(given == wanted, summed, missed)
    return given, summed
