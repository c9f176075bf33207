"""Motors and the battery behind them: torque, current, sag, friction."""

from __future__ import annotations

from pivrex.kernels.maths import div, larger, smaller
from pivrex.kernels.records import Numbers
from pivrex.kernels.subset import kernel
from pivrex.sim.body.settings import BodySettings

__all__ = ["friction", "open_volts", "sagged"]

FULL, NEARLY, EMPTY = 1.06, 0.95, 0.70
"""A battery's voltage as a share of its nominal one when it is full, at a tenth, and empty."""

CREEP_RAD_S, STICKS_RAD_S, SLOW_RAD_S = 1e-3, 5e-3, 0.3
"""A wheel slower than the second sticks if nothing breaks it loose, and creeps then by no more than about the first; below
the third friction fades with the speed, so that it ends in rest and does not swing about it.
"""


@kernel
def open_volts(volts: float, charge: float) -> float:
    """Return a battery's voltage without load, from its nominal one and its charge in [0, 1].

    Notes
    -----
    Straight from full to a tenth, and steeper from there to empty. (Own rule, the shape of a lithium cell.)
    """
    if charge > 0.1:
        return volts * (NEARLY + (FULL - NEARLY) * (charge - 0.1) / 0.9)
    return volts * (EMPTY + (NEARLY - EMPTY) * charge / 0.1)


@kernel
def sagged(s: BodySettings, charge: float, duty: Numbers, spin: Numbers, fed: Numbers) -> tuple[float, float]:
    """Return the battery's voltage under load, and its current in A. ``fed``: 1 for each motor that is connected.

    Notes
    -----
    Motor k draws d·I(s·V·d/V0 - ω/ω0) from a battery that gives V = E - R·ΣI; both are linear in V, so
    V = (E - R·(I_e - Σ d·I·ω/ω0)) / (1 + R·Σ s·d²·I/V0). What motors feed back does not charge it.
    """
    open_v = open_volts(s.volts, charge)
    per_volt, back = 0.0, 0.0
    for k in range(len(s.stall)):
        amps = s.amps[k] * fed[k]
        per_volt += div(s.strength[k] * duty[k] * duty[k] * amps, s.volts)
        back += duty[k] * amps * div(spin[k], s.free[k])
    volts = div(open_v - s.resistance * (s.electronics - back), 1.0 + s.resistance * per_volt)
    volts = larger(smaller(volts, open_v), 0.0)
    return volts, larger(per_volt * volts - back, 0.0) + s.electronics


@kernel
def friction(spin: float, torque: float, breakaway: float, running: float) -> float:
    """Return a wheel's friction as a coefficient, in N·m for each rad/s, that holds for a short step.

    Parameters
    ----------
    spin, torque : float
        How fast it turns, and what turns it.

    Notes
    -----
    Coulomb: a wheel that hardly turns and is turned by less than its breakaway torque sticks; else friction is the running
    one, against the motion. As a coefficient it is solved for together with the speeds, so it stops a wheel and never
    turns it back. (Own form of a stick-slip element.)
    """
    speed = abs(spin)
    if speed < STICKS_RAD_S and abs(torque) <= breakaway:
        return breakaway / CREEP_RAD_S
    return div(running, larger(speed, SLOW_RAD_S))
