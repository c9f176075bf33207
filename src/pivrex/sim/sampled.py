"""The random deviations of one drive from the rig, drawn from a seed."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from pivrex.line.stage import Floats
from pivrex.rig.field import Field
from pivrex.rig.rig import Rig
from pivrex.sim.body import Conditions, RealisticBody
from pivrex.sim.chance import draw
from pivrex.sim.ideal import IdealBody
from pivrex.sim.wiring import Wiring

__all__ = ["Sampled", "placed_by", "sampled", "simulator_under"]

Seeds = NDArray[np.uint64]

OWN = 3
"""Which of a robot's draws this is; others are used for its gyro and its steered wheels."""


class Sampled(NamedTuple):
    """The drawn deviations for a batch of shape B.

    Attributes
    ----------
    names : tuple of str
        What differs, P of them: "start x", "charge", "strength of left"...
    values : B + (P,) float64
        By how much, in m, rad, or as a factor; of the charge how full.
    under : Conditions
    offset : B + (3,) float64
        How the robot is put down next to where it should be, x and y in m, heading in rad.
    """

    names: tuple[str, ...]
    values: Floats
    under: Conditions
    offset: Floats


def sampled(rig: Rig, seeds: Seeds) -> Sampled:
    """Draw for seeds, B uint64. Seed 0 is the robot as the rig says."""
    s = rig.spread
    motors = list(rig.motors)
    names = (
        "start x",
        "start y",
        "start heading",
        "charge",
        "grip",
        "mass",
        "gyro",
        *(f"strength of {m}" for m in motors),
    )
    batch = seeds.shape
    flat = np.atleast_1d(seeds)
    either = 2.0 * draw(flat, OWN, len(names)) - 1.0
    either = np.where(flat[:, None] == 0, 0.0, either)
    charge = np.minimum(np.maximum(rig.battery.charge + s.charge * either[:, 3], 0.1), 1.0)
    charge = np.where(flat == 0, rig.battery.charge, charge)
    parts = [s.start_m * either[:, 0], s.start_m * either[:, 1], s.heading_rad * either[:, 2], charge]
    parts += [1.0 + much * either[:, k] for k, much in ((4, s.grip), (5, s.mass), (6, s.gyro))]
    parts += [1.0 + s.strength * either[:, 7 + k] for k in range(len(motors))]
    values = np.stack(parts, axis=-1)

    def of(k: int) -> Any:
        return values[:, k] if batch else float(values[0, k])

    under = Conditions(
        mass=of(5), grip=of(4), noise=of(6), charge=of(3), strength={m: of(7 + k) for k, m in enumerate(motors)}
    )
    whole = values if batch else values[0]
    return Sampled(names, whole, under, whole[..., :3])


def simulator_under(rig: Rig, field: Field | None, found: Sampled, wiring: Wiring | None = None) -> Any:
    """Return the simulated robot of a rig under what was drawn; a perfect one has nothing that could differ."""
    if rig.has_realistic_physics:
        return RealisticBody(rig, field, wiring, under=found.under)
    return IdealBody(rig, field, wiring)


def placed_by(model: Any, seeds: Seeds, pose: Floats, found: Sampled) -> Any:
    """Return the state of robots that were put down where a routine starts, (3,), as near as someone does by hand."""
    return model.placed(
        model.start(seeds.shape, seeds), pose + found.offset, np.broadcast_to(pose[..., 2], seeds.shape)
    )
