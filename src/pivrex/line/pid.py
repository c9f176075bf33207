"""Loops for angles and positions: proportional, integral with anti-windup, and derivative on the measured rate."""

from __future__ import annotations

from pivrex.kernels.maths import clamp
from pivrex.kernels.records import Number, Numbers, Record, field
from pivrex.kernels.subset import kernel

__all__ = ["LoopSettings", "PidSettings", "loop", "pid"]


class PidSettings(Record):
    """The gains of N loops.

    Attributes
    ----------
    p : (N,)
        Output for each unit of the error.
    i : (N,)
        Output for each unit of the error in a second.
    d : (N,)
        What is taken off for each unit per second of the present rate.
    largest : (N,)
        The output limit, either way.
    """

    is_settings = True

    p: Numbers = field("loops")
    i: Numbers = field("loops")
    d: Numbers = field("loops")
    largest: Numbers = field("loops")


@kernel
def pid(s: PidSettings, k: int, missed: float, error: float, rate: float, dt: float) -> tuple[float, float]:
    """Return what loop k gives, and its integral after the tick.

    Parameters
    ----------
    missed : float
        The integral of the error, in units · s.
    error : float
        Target less measured; angles are wrapped by whoever chose the target.
    rate : float
        How fast the measured value changes, per s; a change of the target makes no jump.
    dt : float

    Notes
    -----
    p·e + i·∫e - d·rate within ±largest; the integral waits while the limit holds (anti-windup). (Åström & Murray, Feedback Systems,
    ch. 11.)
    """
    summed = missed
    if s.i[k] != 0.0:
        summed = missed + error * dt
    wanted = s.p[k] * error + s.i[k] * summed - s.d[k] * rate
    limited = clamp(wanted, -s.largest[k], s.largest[k])
    return limited, summed if limited == wanted else missed


class LoopSettings(Record):
    """One loop with its parts.

    Attributes
    ----------
    p, i, d : float
        Gains on the error, on what stays of it for a second, and on the error of its rate.
    clamp : float
        The integral limit, either way.
    memory : float
        What is left of that part after a tick; 1 forgets nothing.
    largest : float
        The output limit, either way.
    """

    is_settings = True

    p: Number = field()
    i: Number = field()
    d: Number = field()
    clamp: Number = field()
    memory: Number = field()
    largest: Number = field()


@kernel
def loop(
    s: LoopSettings, added: float, error: float, rate_error: float, dt: float
) -> tuple[float, float, float, float]:
    """Return the parts of a loop in a tick: p, i, d, and what it gives.

    Parameters
    ----------
    added : float
        The part of I until now.
    error, rate_error : float
        Target less measured, of the value and of its rate.
    dt : float

    Notes
    -----
    given = clip(p + i + d, ±largest). The part of I forgets, grows by i·e·dt within its limit, and does not grow
    while that would push further into the limit (anti-windup by conditional integration). (Åström & Murray, Feedback Systems, ch. 11.)
    """
    p, d = s.p * error, s.d * rate_error
    kept = added * s.memory
    i = clamp(kept + s.i * error * dt, -s.clamp, s.clamp)
    wanted = p + i + d
    if abs(wanted) > s.largest and (i - kept) * wanted > 0.0:
        i = kept
    return p, i, d, clamp(p + i + d, -s.largest, s.largest)
