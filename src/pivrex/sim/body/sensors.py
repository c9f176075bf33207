"""Sensors of a realistic body: encoders that count, a gyro with errors."""

from __future__ import annotations

import numpy as np

from pivrex.kernels.maths import clamp, cos, div, floor, sin, sqrt, whole
from pivrex.kernels.records import Form, Numbers, Record, field
from pivrex.kernels.subset import kernel
from pivrex.sim.body.settings import GRAVITY_M_S2, BodySettings
from pivrex.sim.body.state import BodyState

__all__ = ["CHANCE", "TABLE", "Chance", "count_wheels", "gyro_reading", "normal", "sense_tilt", "step_gyro"]

TABLE, TABLE_THIRD = 65536, 21845
APART = 5003
"""How far apart the numbers of one tick stand."""

TILT = 200
"""Which of a tick's numbers are the tilt sensor's; rangers and lamps have those before."""

SMOOTH_S = 0.03
"""Over how long the simulated robot's encoders average their speeds."""


class Chance(Record):
    """Normal numbers, the same everywhere; a robot walks through them from a place and with a stride of its own."""

    is_settings = True

    normals: Numbers = field("table")


CHANCE: Chance = Form(Chance, table=TABLE).of(normals=np.random.Generator(np.random.PCG64(20)).standard_normal(TABLE))


@kernel
def normal(chance: Chance, at: int, many: int) -> float:
    """Return the normal number of this tick that stands ``many`` places on from those that the gyro uses itself."""
    return chance.normals[(at + APART * many) % TABLE]


@kernel
def count_wheels(s: BodySettings, before: BodyState, after: BodyState, dt: float) -> None:
    """Let encoders count how far wheels have rolled, in whole counts, and average their speeds."""
    smooth = dt / SMOOTH_S if dt < SMOOTH_S else 1.0
    for k in range(len(s.radius)):
        counted = after.travel[k]
        if s.per_count[k] > 0.0:
            counted = floor(after.travel[k] * s.per_metre[k]) * s.per_count[k]
        after.counted[k] = counted
        seen = div(counted - before.counted[k], dt)
        after.metered[k] = before.metered[k] + (seen - before.metered[k]) * smooth


@kernel
def step_gyro(s: BodySettings, chance: Chance, before: BodyState, after: BodyState, turned: float, dt: float) -> None:
    """Let the gyro take in how far the body has turned in a tick, in rad, about its own upward axis.

    Notes
    -----
    reading = clip((1 + scale)·ω + bias + noise, ±most), added up tick by tick; the bias walks at random by
    drift·√(60 s·dt) a tick, which after a minute has a standard deviation of drift · 60 s. A loose mounting adds noise with the
    acceleration, one next to a motor with the wheels' rates. (The error model of IEEE Std 952 with bias, angle random walk and
    rate random walk.)
    """
    at = (before.at + before.stride) % TABLE
    first, second = chance.normals[at], chance.normals[(at + TABLE_THIRD) % TABLE]
    noise = s.gyro_noise
    if s.rattles != 0.0:
        ahead, left = after.acceleration[0], after.acceleration[1]
        noise += s.rattles * sqrt(ahead * ahead + left * left)
    if s.hums != 0.0:
        rates = 0.0
        for k in range(len(after.spin)):
            rates += abs(after.spin[k])
        noise += s.hums * div(rates, 1.0 * len(after.spin))
    reading = clamp(div(turned, dt) * s.gyro_scale + before.bias + noise * first, -s.gyro_most, s.gyro_most)
    for k in range(1, len(before.heading)):
        after.heading[k] = before.heading[k - 1]
    after.heading[0] = before.heading[0] + reading * dt
    after.bias = before.bias + s.gyro_walk * second * sqrt(dt) / 60.0
    after.at, after.stride = at, before.stride


@kernel
def sense_tilt(s: BodySettings, chance: Chance, state: BodyState, sign: float, tilt: Numbers) -> None:
    """Write what the tilt sensor says: the rate of its lean in rad/s, and the accelerations that hold it up, in g.

    ``sign`` is -1 for one that is mounted the other way round.

    Notes
    -----
    Accelerometers feel the specific force f = a - g along their own axes, which lean with the body by θ: forward
    a_x·cos θ - (a_z + g)·sin θ, up a_x·sin θ + (a_z + g)·cos θ. Each reading has a bias and white noise. (E.g. Titterton & Weston,
    Strapdown Inertial Navigation Technology, ch. 4.)
    """
    lean = state.lean + s.tilt_error
    c, sn = cos(lean), sin(lean)
    ahead, up = state.measured[0], state.measured[1] + GRAVITY_M_S2
    first = state.tilt_bias[0] + s.tilt_noise[0] * normal(chance, state.at, TILT)
    second = state.tilt_bias[1] + s.tilt_noise[1] * normal(chance, state.at, TILT + 1)
    third = state.tilt_bias[2] + s.tilt_noise[2] * normal(chance, state.at, TILT + 2)
    tilt[0] = sign * (state.lean_rate + first)
    tilt[1] = sign * div(ahead * c - up * sn + second, GRAVITY_M_S2)
    tilt[2] = div(ahead * sn + up * c + third, GRAVITY_M_S2)


@kernel
def gyro_reading(s: BodySettings, state: BodyState) -> float:
    """Return the heading that the gyro says, in rad: as old as its delay."""
    late = whole(s.gyro_late)
    part = s.gyro_late - floor(s.gyro_late)
    now = state.heading[late]
    if part != 0.0:
        now += (state.heading[late + 1] - now) * part
    return now + 0.0
