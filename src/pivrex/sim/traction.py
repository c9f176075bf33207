"""Traction: the share of the weight on driven tyres, and the largest acceleration before they slip."""

from __future__ import annotations

from math import cos, inf
from typing import NamedTuple

import numpy as np

from pivrex.line.kinematics import kinematics_of
from pivrex.rig.body import Body
from pivrex.rig.rig import Rig
from pivrex.sim.body import RealisticBody

__all__ = ["GRAVITY_M_S2", "LITTLE", "Standing", "Traction", "held_start", "pushed_start", "standing_of", "traction_of"]

GRAVITY_M_S2 = 9.81

LITTLE = 0.6
"""Less of the weight than this on driven wheels is worth a warning."""


class Standing(NamedTuple):
    """How a robot stands on its driven wheels: what share of its weight presses tyres that can push it ahead, what share of the weight
    an acceleration of 1 g takes off them, and how many motors' push counts ahead. A slanted wheel or roller counts in part.
    """

    share: float
    shift: float
    motors: float


class Traction(NamedTuple):
    """The grip of the tyres, in m/s².

    Attributes
    ----------
    share : float
        Of the weight, on driven wheels.
    ahead, back : float
        The hardest start that they hold.
    pushed : float
        The start that the motors could push, if the tyres held.
    commanded : float
        The hardest start that sticks ask for, by their `slew_up`; infinite without one.
    slew : float
        The `slew_up` of forward at which a full stick asks for no more than they hold, in 1/s.
    """

    share: float
    ahead: float
    back: float
    pushed: float
    commanded: float
    slew: float

    @property
    def spins(self) -> bool:
        """Whether a full stick starts harder than the tyres hold."""
        return min(self.pushed, self.commanded) > self.ahead

    @property
    def said(self) -> str:
        """Return a sentence about it."""
        most = min(self.pushed, self.commanded)
        spins = f"; a full stick starts with {most:.1f} m/s², and spins the wheels" if self.spins else ""
        return (
            f"{self.share * 100:.0f} % of the weight is on driven wheels, which grip up to {self.ahead:.1f} m/s²{spins}"
        )

    @property
    def remedy(self) -> str:
        """Return what helps; empty where nothing is needed."""
        if not self.spins:
            return ""
        return f"put weight over the driven wheels, or let slew_up of forward be {self.slew:.2g} /s"


def standing_of(rig: Rig) -> Standing:
    """Return how a rig's robot stands on its driven wheels, with the loads of the simulated body (`pivrex.sim.body.settings`).

    Notes
    -----
    A wheel that rolls h for each metre ahead adds h·F to the push; along the axis of a roller at an angle a to the wheel its tyre
    holds F ≤ grip·N·cos a.
    """
    wheels, ahead = rig.chassis.wheels, _ahead(rig)
    presses = ahead * np.array([abs(cos(w.rollers_rad or 0.0)) for w in wheels])
    loads = RealisticBody(rig.with_body("realistic")).settings.loads[0][: len(wheels)]
    motors = sum(_mean(rig, ahead, m.wheels) for m in rig.motors.values())
    share, shift = (float((presses * loads[:, k]).sum()) for k in (0, 1))
    return Standing(share / GRAVITY_M_S2, round(-shift, 9) + 0.0, motors)


def held_start(grip: float, drag: float, share: float, shift: float) -> float:
    """Return the hardest start that tyres hold, in m/s².

    Parameters
    ----------
    grip, drag : float
        Friction of the tyres, and drag of casters for each newton of load.
    share, shift : float
        As `Standing` has them.

    Notes
    -----
    With all of the tyres' grip used: m·a = grip·m·(g·share - a·shift) - drag·m·(g·(1 - share) + a·shift). (Moments about the mass
    centre.)
    """
    return GRAVITY_M_S2 * (grip * share - drag * (1 - share)) / (1 + shift * (grip + drag))


def pushed_start(push: float, mass: float, drag: float, share: float, shift: float) -> float:
    """Return the start that a push in N gives a robot whose tyres hold, in m/s²; see `held_start`."""
    return (push / mass - GRAVITY_M_S2 * drag * (1 - share)) / (1 + shift * drag)


def traction_of(rig: Rig) -> Traction:
    """Return what the tyres of a rig's robot hold, and what its motors push."""
    body, standing, settings = rig.body or Body(), standing_of(rig), RealisticBody(rig.with_body("realistic")).settings
    drag = body.casters if rig.chassis.casters else 0.0
    ahead, radius = _ahead(rig), {w.name: w.radius_m for w in rig.chassis.wheels}
    push = sum(
        float(stall) / radius[m.wheels[0]] * _mean(rig, ahead, m.wheels)
        for stall, m in zip(settings.stall, rig.motors.values(), strict=True)
    )
    start, back = (held_start(body.grip, drag, standing.share, sign * standing.shift) for sign in (1.0, -1.0))
    pushed = pushed_start(push, body.weighs_kg(rig.chassis), drag, standing.share, standing.shift)
    share = float(settings.loads[0][: len(rig.chassis.wheels), 0].sum()) / GRAVITY_M_S2
    full = rig.full_forward_m_s
    slews = [rig.shaping.of(f).slew_up_per_s for f in rig.law.axes() if f not in ("turn", "sideways")]
    commanded = max(slews) * full if all(slews) else inf
    return Traction(share, start, back, pushed, commanded, start / full if full else 0.0)


def _ahead(rig: Rig) -> np.ndarray:
    """Return how far each wheel rolls for each metre ahead, (W,)."""
    maps = kinematics_of(rig.chassis)
    return np.ones(len(rig.chassis.wheels)) if maps.hubs is not None else np.abs(maps.inverse[:, 0])


def _mean(rig: Rig, of_wheels: np.ndarray, names: tuple[str, ...]) -> float:
    order = [w.name for w in rig.chassis.wheels]
    return float(np.mean([of_wheels[order.index(name)] for name in names]))
