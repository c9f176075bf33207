"""What sensors make of the truth: encoders that count, a gyro with its faults."""

from __future__ import annotations

from math import ceil, sqrt
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from pivrex.line.stage import Floats
from pivrex.line.values import Value
from pivrex.rig.plane import Gyro as GyroTable
from pivrex.rig.rig import Rig
from pivrex.sim.chance import draw

__all__ = ["Gyro", "GyroState", "counted", "normals"]

TABLE = 1 << 16
APART = 5003
"""How far apart the numbers of one tick stand."""

RATTLES = 0.02
"""What a loose mounting adds to the noise for each m/s² of acceleration, in rad/s."""

HUMS = 0.0008
"""What a mounting beside a motor adds to the noise for each rad/s of the wheels, in rad/s."""


def _normals() -> Floats:
    return np.random.Generator(np.random.PCG64(20)).standard_normal(TABLE)


_NORMALS = _normals()
"""Normal numbers, the same everywhere; a robot walks through them from a place and with a stride of its own."""


def counted(travel: Floats, per_count: Floats, per_metre: Floats) -> Floats:
    """Give how far wheels have rolled as their encoders count it, in whole counts; B + (W,) in m.

    ``per_count`` is in m and ``per_metre`` one over it, (W,) each, both 0 for one whose encoder is not said to count.
    """
    return np.where(per_count > 0, np.floor(travel * per_metre) * per_count, travel)


def normals(state: GyroState, many: int) -> Floats:
    """Give normal numbers of this tick, B + (many,), beside those that the gyro uses itself."""
    return _NORMALS[(state.at[..., None] + APART * np.arange(1, many + 1)) & (TABLE - 1)]


class GyroState(NamedTuple):
    """What a gyro remembers, for a batch of shape B.

    Attributes
    ----------
    heading : B + (1 + N,) float64
        What it has added up, in rad: now, and at the N ticks before.
    bias : B float64
        In rad/s.
    at, stride : B int64
        Its place among the normal numbers, and how it walks on.
    """

    heading: Floats
    bias: Floats
    at: NDArray[np.int64]
    stride: NDArray[np.int64]


class Gyro:
    """The gyro of a rig's stand-in: scale error, bias, its drift, noise, saturation, delay, and a mounting that rattles.

    Notes
    -----
    reading = clip((1 + scale)·ω + bias + noise, ±most), added up tick by tick; the bias walks at random by
    drift·√(60 s·dt) a tick, which after a minute has a spread of drift · 60 s. (The error model of IEEE Std 952 with bias,
    angle random walk and rate random walk.)
    """

    def __init__(self, rig: Rig, noise: Value, tick_s: float) -> None:
        table = rig.gyro or GyroTable()
        self._scale = 1.0 + table.scale
        self._bias = np.asarray(table.bias_rad_s * noise, float)
        self._walk = np.asarray(table.drift_rad_s2 * sqrt(60.0) * noise, float)
        self._noise = np.asarray(table.noise_rad_s * noise, float)
        self._rattles = RATTLES if table.mounting == "loose" else 0.0
        self._hums = HUMS if table.mounting == "by a motor" else 0.0
        self._most = table.most_rad_s
        self._late = table.delay_s / tick_s
        self._kept = ceil(self._late)

    def start(self, batch: tuple[int, ...], seeds: NDArray[np.uint64] | None, heading_rad: float) -> GyroState:
        """Give a gyro that has just been switched on, its heading as it stands."""
        mine = seeds if seeds is not None else np.zeros(batch, np.uint64)
        chance = draw(mine, 1, 3)
        return GyroState(
            heading=np.full((*batch, 1 + self._kept), heading_rad),
            bias=self._bias * (2.0 * chance[..., 0] - 1.0),
            at=(chance[..., 1] * TABLE).astype(np.int64),
            stride=(chance[..., 2] * (TABLE // 2)).astype(np.int64) * 2 + 1,
        )

    def fits(self, state: GyroState) -> bool:
        """Tell whether a state is this gyro's."""
        return state.heading.shape[-1] == 1 + self._kept

    def step(self, state: GyroState, turned: Floats, felt: Floats, spin: Floats, dt_s: float) -> GyroState:
        """Take in how far the body has turned in a tick, B in rad, about its own upward axis; ``felt`` and ``spin`` are as
        `pivrex.sim.body.state.BodyState` has them.
        """
        at = state.at + state.stride
        first, second = _NORMALS[at & (TABLE - 1)], _NORMALS[(at + TABLE // 3) & (TABLE - 1)]
        noise: Floats = self._noise
        if self._rattles:
            noise = noise + self._rattles * np.sqrt(felt[..., 0] ** 2 + felt[..., 1] ** 2)
        if self._hums:
            noise = noise + self._hums * np.abs(spin).mean(axis=-1)
        reading = turned / dt_s * self._scale + state.bias + noise * first
        reading = np.minimum(np.maximum(reading, -self._most), self._most)
        heading = np.empty_like(state.heading)
        heading[..., 1:] = state.heading[..., :-1]
        heading[..., 0] = state.heading[..., 0] + reading * dt_s
        return GyroState(heading, state.bias + self._walk * second * dt_s**0.5 / 60.0, at, state.stride)

    def says(self, state: GyroState) -> Floats:
        """Give the heading that it says, B in rad: as old as its delay."""
        whole = int(self._late)
        part = self._late - whole
        now = state.heading[..., whole]
        if part:
            now = now + (state.heading[..., whole + 1] - now) * part
        return now + 0.0
