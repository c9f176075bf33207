"""Balance: the linear theory of a robot on one axle, gains by LQR, the biggest push that it survives, and warnings."""

from __future__ import annotations

from math import degrees
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from pivrex.line import Line
from pivrex.line.balance import STANDS
from pivrex.line.beginning import begun
from pivrex.line.stage import Floats
from pivrex.rig import Rig
from pivrex.rig.balance import MIN_HZ
from pivrex.routine.fleet import Fleet
from pivrex.routine.means import Means
from pivrex.sim.body import Conditions, RealisticBody
from pivrex.sim.body.settings import GRAVITY_M_S2, BodySettings, settings_of

__all__ = ["ACCEPTS", "Lqr", "Plant", "balance_worries", "biggest_push", "falls_after_s", "lqr_of", "plant_of"]

ACCEPTS = (0.2, 0.5, 0.1, 1.5, 0.35)
"""How far off place, speed, lean, rate of lean and drive may be, in m, m/s, rad, rad/s and a share of full drive: LQR weighs each by this."""

WEAK_RAD = 0.12
"""Motors that cannot turn a smaller lean than this back are too weak: the floor and a push make as much."""

PUSHED_S, WATCHED_S = 0.5, 4.0
LEVELS = 40
LARGEST_M_S = 2.5
"""The largest push tried is the whole robot's mass times this speed."""


class Plant(NamedTuple):
    """A robot on one axle near upright, x' = A·x + B·drive, with x the place in m, the speed in m/s, the lean in rad and its rate in
    rad/s.

    Attributes
    ----------
    a : (4, 4) float64
    b : (4,) float64
    top_m_s : float
        Its speed at full drive.
    """

    a: Floats
    b: Floats
    top_m_s: float

    @property
    def catches_rad(self) -> float:
        """The largest lean that full drive turns back, from rest."""
        return float(abs(self.b[3]) / self.a[3, 2]) if self.a[3, 2] > 0 else float("inf")


def plant_of(rig: Rig) -> Plant:
    """Return the linear theory of a rig that balances.

    Notes
    -----
    With m the mass, l its height above the axle, J the inertia about the axis across through the mass centre, J_r that of what
    motors turn, r the radius and τ the motors' torque, Lagrange's equations near upright are
    (m + J_r/r²)·v' + (m·l - J_r/r)·ω' = τ/r and (m·l - J_r/r)·v' + (m·l² + J + J_r)·ω' = m·g·l·θ - τ, with
    τ = τ_stall·(drive - (v/r - ω)/ω_free): the motor turns against the body. (docs/body.md derives them.)
    """
    return _plant(settings_of(rig, {}, Conditions()))


def _plant(s: BodySettings) -> Plant:
    m, j, r = float(s.mass), float(s.pitch_inertia), float(s.axle_z[0])
    high, turned = float(s.mass_z) - r, float(s.rotor_inertia.sum())
    stall, free = float((s.stall * s.strength).sum()), float(s.free.min())
    inverse = np.linalg.inv(
        [[m + turned / r**2, m * high - turned / r], [m * high - turned / r, m * high**2 + j + turned]]
    )
    torque = inverse @ np.array([1 / r, -1.0]) * stall
    a, b = np.zeros((4, 4)), np.zeros(4)
    a[0, 1] = a[2, 3] = 1.0
    a[[1, 3], 2] = inverse @ np.array([0.0, m * GRAVITY_M_S2 * high])
    a[[1, 3], 1], a[[1, 3], 3] = -torque / (free * r), torque / free
    b[[1, 3]] = torque
    return Plant(a, b, free * r)


class Lqr(NamedTuple):
    """Gains by LQR.

    Attributes
    ----------
    feedback : (4,) float64
        drive = -feedback · x.
    changes : dict
        What a rig file says for a cascade that does the same, by dotted key.
    poles : (4,) complex128
        Of the plant with it, in 1/s.
    """

    feedback: Floats
    changes: dict[str, object]
    poles: NDArray[np.complex128]


def lqr_of(rig: Rig, accepts: tuple[float, float, float, float, float] = ACCEPTS) -> Lqr:
    """Return the gains that are best for the linear theory.

    Parameters
    ----------
    rig : Rig
        One that balances.
    accepts : five floats
        See `ACCEPTS`.

    Notes
    -----
    The cost is ∫ Σ (x_k/x_k,max)² + (drive/drive_max)² dt (Bryson's rule). Its minimum is the feedback R⁻¹·B'·P with P the solution of
    Riccati's equation, found from the stable eigenvectors of the Hamiltonian matrix. (Åström & Murray, Feedback Systems, ch. 7.5;
    Laub 1979 for the solution.) A cascade of P alone has drive = C_ω·ω + C_ω·C_θ·θ + C_ω·C_θ·C_v·(v + C_x·x) + k·v/v_top with k the share of
    back-EMF that is added: comparing both gives each gain.
    """
    plant, weight = plant_of(rig), 1.0 / np.array(accepts) ** 2
    a, b = plant.a, plant.b
    hamiltonian = np.block([[a, -np.outer(b, b) / weight[4]], [-np.diag(weight[:4]), -a.T]])
    values, vectors = np.linalg.eig(hamiltonian)
    stable = vectors[:, values.real < 0]
    p = np.real(stable[4:] @ np.linalg.inv(stable[:4]))
    feedback = b @ p / weight[4]
    assert rig.balance is not None
    x, v, lean, rate = -feedback
    v -= rig.balance.back_emf / plant.top_m_s
    found = {"rate": rate, "lean": lean / rate, "speed": degrees(v / lean), "place": x / v}
    changes: dict[str, object] = {f"balance.{n}.p": float(f"{g:.3g}") for n, g in found.items()}
    return Lqr(feedback, changes, np.asarray(np.linalg.eigvals(a - np.outer(b, feedback)), complex))


def _watched(rig: Rig, model: RealisticBody, pushes: Floats, seconds: float) -> Floats:
    """Return when each robot of a batch that is pushed falls, (G,) in s; infinite where it does not."""
    line = Line(rig)
    state = line.layout.at("balance", "state")
    ticks = round(seconds / line.dt_s)
    batch = pushes.shape
    seeds = np.arange(batch[0], dtype=np.uint64)
    fleet = Fleet(
        Means(line, ticks + 1, [state]), model, begun(line, np.zeros(3), batch), model.start(batch, seeds), np.zeros(3)
    )
    at = round(PUSHED_S / line.dt_s)
    fleet.run(at)
    fleet.push(np.stack([pushes, 0.0 * pushes, 0.0 * pushes], axis=-1))
    fleet.run(ticks)
    down = fleet.table[:, :ticks, 0] != STANDS
    down[:, 0] = False
    return np.where(down.any(axis=1), np.argmax(down, axis=1) * line.dt_s, np.inf)


def falls_after_s(rig: Rig, seconds: float = 3.0) -> float:
    """Return the time after which a robot with these gains falls by itself, in s; infinite if it stays upright."""
    return float(_watched(rig, RealisticBody(rig), np.zeros(2), seconds).min())


def biggest_push(rig: Rig, under: Conditions | None = None, kinds: int = 1) -> Floats:
    """Return the biggest push at the mass centre that a robot survives, (kinds,) in N·s: all smaller ones that are tried too.

    Parameters
    ----------
    rig : Rig
        One that balances.
    under : Conditions, optional
        Of shape (kinds,).
    kinds : int
        How many conditions are tried; every second one is pushed back.
    """
    assert rig.body is not None
    top = rig.body.weighs_kg(rig.chassis) * LARGEST_M_S
    levels = np.linspace(0.0, top, LEVELS + 1)[1:]
    pushes = np.repeat(levels[None], kinds, axis=0) * np.where(np.arange(kinds) % 2, -1.0, 1.0)[:, None]
    under = under or Conditions()
    each = {
        n: np.repeat(np.broadcast_to(getattr(under, n), kinds), LEVELS) for n in ("mass", "grip", "noise", "resistance")
    }
    charge = None if under.charge is None else np.repeat(np.broadcast_to(under.charge, kinds), LEVELS)
    strength = {n: np.repeat(np.broadcast_to(v, kinds), LEVELS) for n, v in under.strength.items()}
    model = RealisticBody(rig, under=Conditions(**each, charge=charge, strength=strength))
    stood = np.isinf(_watched(rig, model, pushes.ravel(), WATCHED_S)).reshape(kinds, LEVELS)
    survived = np.where(stood.all(axis=1), LEVELS, np.argmin(stood, axis=1))
    found: Floats = np.where(survived > 0, levels[np.maximum(survived - 1, 0)], 0.0)
    return found


def balance_worries(rig: Rig) -> list[str]:
    """Return what keeps a robot from balancing, or makes it hard; nothing for a rig without [balance]."""
    if rig.balance is None:
        return []
    found, plant = [], plant_of(rig)
    if rig.rate_hz < MIN_HZ:
        doubles = np.log(2) / np.linalg.eigvals(plant.a).real.max()
        found.append(
            f"rate: {rig.rate_hz:g} Hz is slow for a robot that balances: its lean doubles in {doubles:.2f} s, and each tick comes "
            f"{1000 * rig.dt_s:.0f} ms late; use {MIN_HZ:g} Hz or more"
        )
    if plant.catches_rad < WEAK_RAD:
        found.append(
            f"motors: are too weak: full drive turns back a lean of {degrees(plant.catches_rad):.1f} deg; use more torque, a "
            "larger gear ratio or a lower weight"
        )
    fell = falls_after_s(rig)
    if np.isfinite(fell):
        found.append(f"balance: with these gains it falls by itself after {fell:.1f} s")
    return found
