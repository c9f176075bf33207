"""Motors and the battery behind them: torque, current, sag, friction."""

from __future__ import annotations

from pivrex.line.values import Ops, Value
from pivrex.sim.body.settings import EMPTY, FULL, NEARLY, BodySettings

__all__ = ["friction", "open_volts", "sagged"]

CREEP_RAD_S, STICKS_RAD_S, SLOW_RAD_S = 1e-3, 5e-3, 0.3
"""A wheel slower than the second sticks if nothing breaks it loose, and creeps then by no more than about the first; below
the third friction fades with the speed, so that it ends in rest and does not swing about it.
"""


def open_volts(o: Ops, volts: float, charge: Value) -> Value:
    """Give a battery's voltage without load, from its nominal one and its charge in [0, 1].

    Notes
    -----
    Straight from full to a tenth, and steeper from there to empty. (Own rule, the shape of a lithium cell.)
    """
    above = NEARLY + (FULL - NEARLY) * (charge - 0.1) / 0.9
    below = EMPTY + (NEARLY - EMPTY) * charge / 0.1
    return volts * o.where(charge > 0.1, above, below)


def sagged(
    o: Ops, s: BodySettings, charge: Value, duty: list[Value], spin: list[Value], fed: list[Value]
) -> tuple[Value, Value]:
    """Give the battery's voltage under load, and its current in A.

    Notes
    -----
    Motor k draws d·I(s·V·d/V0 - ω/ω0) from a battery that gives V = E - R·ΣI; both are linear in V, so
    V = (E - R·(I_e - Σ d·I·ω/ω0)) / (1 + R·Σ s·d²·I/V0). What motors feed back does not charge it.
    """
    open_v = open_volts(o, s.volts, charge)
    per_volt, back = 0.0, 0.0
    for motor, d, w, on in zip(s.motors, duty, spin, fed, strict=True):
        amps = motor.amps * on
        per_volt = per_volt + motor.strength * d * d * amps / s.volts
        back = back + d * amps * (w / motor.free)
    volts = (open_v - s.resistance * (s.electronics - back)) / (1.0 + s.resistance * per_volt)
    volts = o.most(o.least(volts, open_v), 0.0)
    return volts, o.most(per_volt * volts - back, 0.0) + s.electronics


def friction(o: Ops, spin: Value, torque: Value, breakaway: Value, running: Value) -> Value:
    """Give a wheel's friction as a coefficient, in N·m for each rad/s, that holds for a short step.

    Parameters
    ----------
    spin, torque : value
        How fast it turns, and what turns it.

    Notes
    -----
    Coulomb: a wheel that hardly turns and is turned by less than its breakaway torque sticks; else friction is the running
    one, against the motion. As a coefficient it is solved for together with the speeds, so it stops a wheel and never
    turns it back. (Own form of a stick-slip element.)
    """
    speed = abs(spin)
    stuck = (speed < STICKS_RAD_S) & (abs(torque) <= breakaway)
    return o.where(stuck, breakaway / CREEP_RAD_S, running / o.most(speed, SLOW_RAD_S))
