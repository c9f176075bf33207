"""Placement trials: the same drive with the gyro mounted in different places, drift and noise side by side."""

from __future__ import annotations

from dataclasses import dataclass
from typing import get_args

import numpy as np

from pivrex.line import Entry, Line
from pivrex.rig import Rig
from pivrex.rig.plane import Mounting
from pivrex.sim.body import RealisticBody
from pivrex.sim.rollout import Rollout

__all__ = ["Placed", "placements"]

ROBOTS = 8


@dataclass(frozen=True)
class Placed:
    """The result of a mounting over a drive.

    Attributes
    ----------
    mounting : str
    drift_rad, worst_rad : float
        How far the gyro was off at the end: the mean of all seeds, and the worst.
    noise_rad_s : float
        The spread of what it said too much or too little of the rate, from one tick to the next.
    """

    mounting: str
    drift_rad: float
    worst_rad: float
    noise_rad_s: float


def placements(rig: Rig, seconds: float = 8.0, robots: int = ROBOTS) -> list[Placed]:
    """Drive the same drive with each mounting, on simulated robots with realistic physics.

    Parameters
    ----------
    rig : Rig
        One with a gyro.
    seconds : float
    robots : int
        How many seeds are tried for each.

    Notes
    -----
    The drive starts and stops hard and turns both ways, as one in a match does; every mounting has the same seeds. Delay, which
    does not depend on the place, is left out.
    """
    found = []
    for mounting in get_args(Mounting):
        assert rig.gyro is not None
        placed = rig.with_body("realistic").model_copy(
            update={"gyro": rig.gyro.model_copy(update={"mounting": mounting, "delay_s": 0.0})}
        )
        line, model = Line(placed), RealisticBody(placed)
        batch = (robots,)
        rollout = Rollout(line, model, line.start(batch), model.start(batch, np.arange(robots, dtype=np.uint64)))
        raw = line.rest(batch)
        gyro, true = line.layout.at("sensed", "gyro"), line.layout.at("truth", "heading")
        sign = -1.0 if rig.gyro.reversed else 1.0
        off = []
        for k in range(round(seconds / line.dt_s)):
            t = k * line.dt_s
            forward = 0.7 * np.sign(np.sin(2.2 * t)) * rig.full_forward_m_s
            twist = np.array([forward, 0.0, 0.25 * np.sin(1.3 * t) * rig.full_turn_rad_s])
            row = rollout.tick(raw, entry=Entry(twist=twist))
            off.append(sign * row[:, gyro] - row[:, true])
        error = np.array(off)
        drift = np.abs(error[-1] - error[0])
        # from tick to tick, so that a scale error, which goes with the turn, is no noise; of two readings that is √2 times one's
        noise = np.diff(error, 2, axis=0).std() / line.dt_s / np.sqrt(2)
        found.append(Placed(mounting, float(drift.mean()), float(drift.max()), float(noise)))
    return found
