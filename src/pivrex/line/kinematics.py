"""Kinematics: between the twist of the body and what its wheels do, by the same maps for every chassis."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from pivrex.rig.chassis import Chassis

__all__ = [
    "Kinematics",
    "Motion",
    "hub_velocities",
    "kinematics_of",
    "motion_of",
    "twist_of",
    "vectors",
    "wheel_speeds",
]

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Kinematics:
    """The linear maps of a chassis with W wheels, P of them plain and not steered.

    A chassis without steered wheels uses the speeds of its wheels, D = 1; one with steered wheels uses velocity
    vectors on the ground, D = 2, in which a wheel that is not steered always lies along its drive direction.

    Attributes
    ----------
    inverse : (W, 3) float64
        Wheel surface speeds in m/s from the twist (forward m/s, left m/s, turn rad/s); of a chassis with steered
        wheels only the rows of those that are not steered mean anything.
    forward : (3, W·D) float64
        The twist from the wheels.
    disagree : (W·D, W·D) float64
        What is left of the wheels after the twist that fits them best.
    slide : (P, W·D) float64
        The side slip of the plain wheels, from the wheels.
    hubs : (W, 2, 3) float64, or None
        Velocity vectors from the twist.
    """

    inverse: Floats
    forward: Floats
    disagree: Floats
    slide: Floats
    hubs: Floats | None

    @property
    def all_of(self) -> Floats:
        """The three maps from the wheels in one matrix, (3 + W·D + P, W·D)."""
        return np.concatenate((self.forward, self.disagree, self.slide))


@dataclass(frozen=True)
class Motion:
    """What wheels achieve together.

    Attributes
    ----------
    twist : B + (3,) float64
    residual : B + (W·D,) float64
        How far each wheel is from what the body's motion would have it do, in m/s.
    scrub : B + (P,) float64
        How fast each plain wheel slides sideways, in m/s.
    """

    twist: Floats
    residual: Floats
    scrub: Floats


def kinematics_of(chassis: Chassis, over: bool = False) -> Kinematics:
    """Take the maps from a chassis; with ``over`` those of the robot lying on its back (see `pivrex.rig.geometry`)."""
    geometry = chassis.geometry
    rows = geometry.rows_over if over else geometry.rows
    forward = geometry.forward_over if over else geometry.forward
    count = len(chassis.wheels)
    inverse = np.zeros((count, 3))
    hubs = None
    if any(w.steered for w in chassis.wheels):
        hubs = np.zeros((count, 2, 3))
        back = np.zeros((3, count, 2))
        for w, wheel in enumerate(chassis.wheels):
            mine = np.flatnonzero(geometry.of_wheel == w)
            drive = np.array([np.cos(wheel.drive_rad), np.sin(wheel.drive_rad)])
            if wheel.steered:
                hubs[w], back[:, w] = rows[mine], forward[:, mine]
            else:
                inverse[w] = rows[mine[0]]
                hubs[w], back[:, w] = np.outer(drive, rows[mine[0]]), np.outer(forward[:, mine[0]], drive)
        needs, forward = hubs.reshape(-1, 3), back.reshape(3, -1)
    else:
        inverse = needs = rows
    slide = geometry.slip @ forward
    disagree = np.eye(len(needs)) - needs @ forward
    slide[np.abs(slide) < 1e-12] = 0.0
    disagree[np.abs(disagree) < 1e-12] = 0.0
    return Kinematics(inverse, forward, disagree, slide, hubs)


def wheel_speeds(kinematics: Kinematics, twist: Floats) -> Floats:
    """Give the wheel surface speeds, B + (W,) in m/s, that a twist, B + (3,), needs of wheels that are not steered.

    s = H·twist, by einsum: a matrix product gives other bits for one robot than for many.
    """
    return np.einsum("wk,...k->...w", kinematics.inverse, twist)


def hub_velocities(kinematics: Kinematics, twist: Floats) -> Floats:
    """Give the velocity vectors, B + (W, 2) in m/s forward and left, that a twist, B + (3,), needs of the wheels."""
    assert kinematics.hubs is not None
    return np.einsum("wdk,...k->...wd", kinematics.hubs, twist)


def vectors(speeds: Floats, angles_rad: Floats) -> Floats:
    """Give velocity vectors, B + (W·2,), of wheels that roll at ``speeds`` and point along ``angles_rad``, B + (W,)."""
    found = np.empty((*speeds.shape, 2))
    found[..., 0] = speeds * np.cos(angles_rad)
    found[..., 1] = speeds * np.sin(angles_rad)
    return found.reshape(*speeds.shape[:-1], -1)


def twist_of(kinematics: Kinematics, wheels: Floats) -> Floats:
    """Give the twist, B + (3,), that wheels achieve: surface speeds, or `vectors` where wheels are steered, B + (W·D,)."""
    return np.einsum("kw,...w->...k", kinematics.forward, wheels)


def motion_of(kinematics: Kinematics, wheels: Floats) -> Motion:
    """Give all that wheels achieve, from the same argument as `twist_of`."""
    found = np.einsum("kw,...w->...k", kinematics.all_of, wheels)
    rest = 3 + len(kinematics.disagree)
    return Motion(found[..., :3], found[..., 3:rest], found[..., rest:])
