"""One loop for angles and positions: proportional, integral with anti-windup, and a brake on the present rate."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from pivrex.line.layout import Floats
from pivrex.line.values import Ops, Value

__all__ = ["LoopSettings", "PidSettings", "loop", "pid"]


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


@dataclass(frozen=True)
class LoopSettings:
    """One loop whose parts are told. Each number may be of a batch's shape B, so that many gains are tried at once.

    Attributes
    ----------
    p, i, d : float
        Gains on the error, on what stays of it for a second, and on the error of its rate.
    clamp : float
        The most that the part of I may be, either way.
    memory : float
        What is left of that part after a tick; 1 forgets nothing.
    largest : float
        The most that is given, either way.
    """

    p: float
    i: float
    d: float
    clamp: float
    memory: float
    largest: float


def loop(
    o: Ops, settings: LoopSettings, added: Value, error: Value, rate_error: Value, dt_s: float
) -> tuple[Value, Value, Value, Value]:
    """Give the parts of a loop in a tick.

    Parameters
    ----------
    o : Ops
    settings : LoopSettings
    added : B float64
        The part of I until now.
    error, rate_error : B float64
        Target less measured, of the value and of its rate.
    dt_s : float

    Returns
    -------
    p, i, d, given : B float64
        given = clip(p + i + d, ±largest). The part of I forgets, grows by i·e·dt within its clamp, and does not grow
        while that would push further into the limit (anti-windup by conditional integration).

    Notes
    -----
    Åström & Murray, Feedback Systems, ch. 11.
    """
    s = settings
    p, d = s.p * error, s.d * rate_error
    kept = added * s.memory
    grown = o.within(kept + s.i * error * dt_s, s.clamp)
    wanted = p + grown + d
    winds = (abs(wanted) > s.largest) & ((grown - kept) * wanted > 0)
    i = o.where(winds, kept, grown)
    return p, i, d, o.within(p + i + d, s.largest)
