"""The relay experiment: a relay makes a loop oscillate, and the oscillation shows the ultimate gain and period."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from math import pi, sqrt

import numpy as np

from pivrex.line import Entry
from pivrex.line.balance import STANDS
from pivrex.line.beginning import begun
from pivrex.line.stage import Floats
from pivrex.rig import Rig
from pivrex.sim.rollout import Rollout
from pivrex.tuning.balance_loops import BalanceLoop
from pivrex.tuning.loop import Gains, Loop
from pivrex.tuning.step_responses import Bench

__all__ = ["Relay", "gains_by", "relay", "relay_on"]

SWITCHES = {"rate": 0.25, "lean": 1.5, "speed": 0.1, "place": 0.25}
"""What a relay gives in the place of each loop of a robot that balances: drive, rad/s, rad, m/s."""

SLOWER = {"speed": 2.0, "place": 4.0}
SETTLED_S = 6.0
"""How long such a robot stands first, until its filter knows the bias of its gyro."""

SETTLES = 2
"""How many swings at the beginning do not count."""


@dataclass(frozen=True)
class Relay:
    """The result of a relay experiment.

    Attributes
    ----------
    gain, period_s : float
        The ultimate gain, with which P alone would swing for ever, and the period of that swing.
    amplitude : float
        Of the swing, in the value's unit.
    t_s, value, output : (N,) float64
        What was seen.
    """

    gain: float
    period_s: float
    amplitude: float
    t_s: Floats
    value: Floats
    output: Floats


def relay(
    plant: Callable[[float], float], size: float, band: float, dt_s: float, seconds: float, target: float = 0.0
) -> Relay | None:
    """Make a plant swing about a target by a switch with hysteresis.

    Parameters
    ----------
    plant : callable
        Takes the output of a tick, and returns the value after it.
    size : float
        What the switch gives, either way.
    band : float
        How far the value must be on the other side before it switches.
    dt_s, seconds : float
    target : float

    Returns
    -------
    Relay or None
        None if it did not swing evenly within the time: four periods that differ by less than a fifth.

    Notes
    -----
    To its first harmonic a relay of size d with hysteresis h is the gain 4·d/(π·√(a² - h²)) for a swing of amplitude a;
    that is the gain at which the loop is on its limit (describing function; Åström & Hägglund 1984, Automatica 20).
    """
    output, value = size, plant(0.0)
    values, gave, switched = [], [], []
    for k in range(round(seconds / dt_s)):
        error = target - value
        after = size if error > band else -size if error < -band else output
        if after > 0 > output:
            switched.append(k)
        output = after
        value = plant(output)
        values.append(value)
        gave.append(output)
    return _swing(np.array(values), np.array(gave), switched, size, band, dt_s)


def _swing(seen: Floats, gave: Floats, switched: Sequence[int], size: float, band: float, dt_s: float) -> Relay | None:
    """Return the ultimate gain and period from an oscillation that was switched up in these ticks; None if it is not even."""
    if len(switched) < SETTLES + 4:
        return None
    periods = np.diff(switched[SETTLES:])
    if np.ptp(periods) > max(2.0, 0.2 * periods.mean()):
        return None
    swing = seen[switched[SETTLES] : switched[-1]]
    amplitude = float((swing.max() - swing.min()) / 2)
    inside = amplitude**2 - band**2
    gain = 4 * size / (pi * sqrt(inside)) if inside > 0 else float("inf")
    t_s = np.arange(1.0, len(seen) + 1.0) * dt_s
    return Relay(gain, float(periods.mean() * dt_s), amplitude, t_s, seen, gave)


def relay_on(rig: Rig, loop: Loop, seconds: float = 8.0) -> Relay | None:
    """Make the relay experiment with a loop of a rig on its simulated robot. None if it does not swing, or not evenly.

    Of the heading it switches the turn, of a wheel's speed the drive, of a steered wheel the rate of its turning: what each
    loop gives, with its own gains left out.
    """
    if loop.name == "wheel" and rig.control is not None:
        # what an acceleration needs would kick at every switch
        rig = rig.model_copy(update={"control": rig.control.model_copy(update={"acceleration_s": 0.0})})
    bench = Bench(rig, loop)
    line, model = bench.line, bench.model
    if not isinstance(loop, BalanceLoop):
        loop.put(line, Gains(0.0, 0.0, 0.0))
    rollout = Rollout(line, model, begun(line, np.zeros(3)))
    raw = line.rest()
    first = rollout.tick(raw)
    place, _, _ = loop.places(line)
    if loop.name == "heading":
        top = rig.full_turn_rad_s

        def plant(u: float) -> float:
            row = rollout.tick(raw, entry=Entry(twist=np.array([0.0, 0.0, u])))
            # what the loop would see, not what is true
            return float(row[line.layout.at("heading", "heading")] - first[line.layout.at("heading", "heading")])

        return relay(plant, 0.3 * top, 0.003, line.dt_s, seconds)
    if loop.name == "wheel":

        def wheel(u: float) -> float:
            row = rollout.tick(raw, entry=Entry(twist=np.array([(0.4 + u) * rig.full_forward_m_s, 0.0, 0.0])))
            return float(row[place])

        for _ in range(30):
            wheel(0.0)
        return relay(wheel, 0.2, 0.01, line.dt_s, seconds, 0.4)
    if isinstance(loop, BalanceLoop):
        return _balancing(rollout, loop, seconds)
    assert rig.steering is not None
    motor, top = float(len(rig.motors) + 1), rig.steering.wheels[rig.steered[0]].top_rad_s

    def steering(u: float) -> float:
        row = rollout.tick(raw, entry=Entry(probe=np.array([motor, u / top])))
        return float(row[place] - first[place])

    return relay(steering, 0.3 * top, 0.02, line.dt_s, seconds)


def _balancing(rollout: Rollout, loop: BalanceLoop, seconds: float) -> Relay | None:
    """Make a loop of a robot that balances swing: it gives its limit, either way, whatever is missing; those around it go on.

    The robot must stay up meanwhile, so the limit is a share of the one that it has.
    """
    line, raw = rollout.line, rollout.line.rest()
    for _ in range(round(SETTLED_S / line.dt_s)):
        rollout.tick(raw)
    own = line.settings.part("balance")
    size = SWITCHES[loop.name]
    switch = own.part(loop.name)._replace(p=1e6, i=0.0, largest=size)
    line.put("balance", own._replace(**{loop.name: switch}))
    value, target, parts = loop.places(line)
    seconds *= SLOWER.get(loop.name, 1.0)
    rows = np.array([rollout.tick(raw) for _ in range(round(seconds / line.dt_s))])
    if (rows[1:, line.layout.at("balance", "state")] != STANDS).any():
        return None
    rows = rows[len(rows) // 2 :]  # at first it may chatter about the switch before it swings
    gave = rows[:, parts["output"]]
    up = np.flatnonzero((gave[1:] > 0) & (gave[:-1] <= 0)) + 1
    # noise switches twice near zero: of two that follow each other at once the first counts
    gaps = np.diff(up, prepend=-np.inf)
    first = up[gaps > 0.3 * np.median(gaps[1:])].tolist() if len(up) > 1 else []
    found = _swing(rows[:, value] - rows[:, target], gave, first, size, 0.0, line.dt_s)
    return found and replace(found, gain=found.gain / loop.gain_unit)


def gains_by(found: Relay, goal: str, loop: Loop, rig: Rig) -> Gains:
    """Return gains for a loop of a rig by what a relay experiment found.

    Notes
    -----
    quick: 0.45·K, Ti = T/1.2 with a little D; calm: 0.33·K, Ti = T/2, Td = T/3; sure: 0.2·K with the same times. (Ziegler &
    Nichols 1942; the latter two with less overshoot after Seborg, Edgar & Mellichamp, Process Dynamics and Control.)
    """
    if isinstance(
        loop, BalanceLoop
    ):  # each loop is P alone for the one around it; what stays missing is the speed's to find
        return Gains({"quick": 0.45, "calm": 0.33, "robust": 0.2}[goal] * found.gain, loop.gains(rig).i, 0.0)
    share, i_time, d_time = {"quick": (0.45, 1 / 1.2, 0.0), "calm": (0.33, 0.5, 1 / 3), "robust": (0.2, 0.5, 1 / 3)}[
        goal
    ]
    p = share * found.gain
    return Gains(p, p / (i_time * found.period_s), p * d_time * found.period_s)
