"""The limits of the speed along a path: every wheel's speed and acceleration, the bends, and the driver's limits."""

from __future__ import annotations

from dataclasses import dataclass
from math import inf

import numpy as np

from pivrex.line.kinematics import kinematics_of
from pivrex.line.stage import Floats
from pivrex.path.curve import Curve
from pivrex.path.looking import Looking
from pivrex.path.points import Path
from pivrex.rig.rig import Rig

__all__ = ["Bounds", "bounds_of", "max_speed", "max_turn", "twist_along"]

SHARE = 0.8
TINY = 1e-9


@dataclass(frozen=True)
class Bounds:
    """The bounds in N places.

    Attributes
    ----------
    caps : (C, N) float64
        The most that the square of the speed may be, in m²/s²; infinite where it is free.
    cap_names : (C,) of str
    by_rise, by_square : (R, N) float64
        Of each number whose change is bounded: how it depends on the path acceleration a, and on the square of the speed z.
    most : (R,) float64
        |by_rise·a + by_square·z| ≤ most.
    rise_names : (R,) of str
    """

    caps: Floats
    cap_names: tuple[str, ...]
    by_rise: Floats
    by_square: Floats
    most: Floats
    rise_names: tuple[str, ...]


def max_speed(path: Path, rig: Rig) -> float:
    """How fast a path is driven at most, in m/s."""
    own = rig.following.speed_m_s
    return path.speed_m_s or (own if own is not None else SHARE * rig.full_forward_m_s)


def max_turn(path: Path, rig: Rig) -> float:
    """How fast the robot turns at most on it, in rad/s."""
    own = rig.following.turn_rad_s
    return path.turn_rad_s or (own if own is not None else SHARE * rig.full_turn_rad_s)


def twist_along(curve: Curve, looks: Looking) -> tuple[Floats, Floats]:
    """Return the robot's twist for each m/s along the path, (N, 3), and how it changes with the distance.

    Notes
    -----
    With β the curve's direction seen from the robot: ξ = (cos β, sin β, θ'), ξ' = (-sin β·β', cos β·β', θ''), β' = κ - θ'.
    """
    offset = curve.angle - looks.heading
    c, s, more = np.cos(offset), np.sin(offset), curve.bend - looks.turns
    return np.stack((c, s, looks.turns), axis=1), np.stack((-s * more, c * more, looks.turns_more), axis=1)


def bounds_of(path: Path, rig: Rig, curve: Curve, looks: Looking) -> Bounds:
    """Return what bounds the speed of a rig on a path.

    Notes
    -----
    The surface speed of a wheel is w = H·ξ·v, its change H·(ξ·a + ξ'·v²): linear in a and in z = v². Of a steered wheel it is the speed
    of its hub |u|·v with |u|' from u·u'/|u|, and it turns by (u × u')/|u|²·v. (Bobrow, Dubowsky & Gibson 1985; Lynch & Park, Modern
    Robotics, ch. 9.4.)
    """
    f, chassis = rig.following, rig.chassis
    along, change = twist_along(curve, looks)
    caps: list[tuple[str, Floats]] = []
    rises: list[tuple[str, Floats, Floats, float]] = []

    def cap(name: str, most: float, each: Floats) -> None:
        size = np.abs(each)
        caps.append((name, np.where(size > TINY, (most / np.maximum(size, TINY)) ** 2, inf)))

    one = np.ones_like(curve.s)
    cap("your speed", max_speed(path, rig), one)
    cap("your turn", max_turn(path, rig), looks.turns)
    bent = np.abs(curve.bend)
    caps.append(("the bend", np.where(bent > TINY, f.sideways_m_s2 / np.maximum(bent, TINY), inf)))
    maps = kinematics_of(chassis)
    for k, wheel in enumerate(chassis.wheels):
        top = rig.wheel_top_m_s(wheel.name) * (1 - f.reserve)
        if maps.hubs is None or not wheel.steered:
            row = maps.inverse[k]
            speed, rise, more = along @ row, along @ row, change @ row
        else:
            u, du = along @ maps.hubs[k].T, change @ maps.hubs[k].T
            speed = np.hypot(u[:, 0], u[:, 1])
            safe = np.maximum(speed, 1e-6)
            rise, more = speed, (u * du).sum(axis=1) / safe
            steered = rig.steering.wheels[wheel.name] if rig.steering is not None else None
            if steered is not None:
                turns = (u[:, 0] * du[:, 1] - u[:, 1] * du[:, 0]) / safe**2
                cap(f"how fast {wheel.name} steers", steered.top_speed_rad_s * (1 - f.reserve), turns)
        cap(f"the speed of {wheel.name}", top, speed)
        rises.append((f"the rise of {wheel.name}", rise, more, f.wheel_acceleration_m_s2))
    rises.append(("your acceleration", one, 0 * one, path.acceleration_m_s2 or f.acceleration_m_s2))
    rises.append(("your turn's acceleration", looks.turns, looks.turns_more, f.turn_acceleration_rad_s2))
    for zone in path.slow:
        inside = np.hypot(curve.x - zone.x_m, curve.y - zone.y_m) <= zone.radius_m
        caps.append(("a slow zone", np.where(inside, zone.speed_m_s**2, inf)))
    rests = np.full(len(curve.s), inf)
    rests[[0, -1]] = 0.0
    rests[curve.of[[k for k, p in enumerate(path.points) if p.stop]]] = 0.0
    caps.append(("a stop", rests))
    return Bounds(
        np.array([c for _, c in caps]), tuple(n for n, _ in caps), np.array([r for _, r, _, _ in rises]),
        np.array([m for _, _, m, _ in rises]), np.array([a for *_, a in rises]), tuple(n for n, *_ in rises),
    )  # fmt: skip
