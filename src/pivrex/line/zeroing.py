"""Zeroing: the gyro's reading while the robot stands still is its bias; it is subtracted from then on."""

from __future__ import annotations

from types import MappingProxyType

import numpy as np

from pivrex.kernels.maths import div, is_nan, larger, nan, sqrt
from pivrex.kernels.records import Form, Number, Record, field
from pivrex.kernels.subset import kernel
from pivrex.line.input_stages import SensedRow
from pivrex.line.inputs import Inputs
from pivrex.line.stage import Rung, Stage, named
from pivrex.line.wheel_tick import WheelTick
from pivrex.rig.rig import Rig

__all__ = [
    "DONE",
    "MEASURES",
    "MOVED",
    "WAITS",
    "Zeroing",
    "ZeroingColumns",
    "ZeroingSettings",
    "ZeroingState",
    "zeroing_step",
]

NEVER_REQUESTED, WAITS, MEASURES, DONE, MOVED = 0.0, 1.0, 2.0, 3.0, 4.0
"""What the Tick says of it. WAITS: asked for, but the gyro says nothing yet or the robot does not stand. MOVED: it moved
while the bias was measured; it begins again once it stands.
"""

STANDS_M_S = 0.004
STILL_RAD_S = 0.1
"""A wheel that rolls faster, or a reading this far from the mean of those before, and the robot does not stand still."""

SWAYS_M_S = 0.15
"""The same of a robot that balances, whose wheels roll to and fro, both alike; the gyro shows if it turns."""

SURE = 12
"""After so many readings their mean says something."""


class ZeroingSettings(Record):
    """``ticks`` at rest that are measured, how fast wheels may roll meanwhile, and a tick's length in s."""

    is_settings = True

    ticks: Number = field()
    stands: Number = field(unit="m/s")
    dt: Number = field(unit="s")


class ZeroingState(Record):
    """The memory of zeroing, B each.

    Attributes
    ----------
    status : float64
        What the Tick says.
    readings, first, second : float64
        How many at rest by now, their sum in rad/s and that of their squares.
    gyro : float64
        What the gyro said last, rad; NaN before.
    taken : float64
        What is taken off the gyro's heading, rad.
    bias, noise : float64
        Measured last, rad/s.
    """

    status: Number = field()
    readings: Number = field()
    first: Number = field(unit="rad/s")
    second: Number = field(unit="rad^2/s^2")
    gyro: Number = field(unit="rad")
    taken: Number = field(unit="rad")
    bias: Number = field(unit="rad/s")
    noise: Number = field(unit="rad/s")


class ZeroingColumns(Record):
    """The gyro's heading without what is taken off, how zeroing stands, and what it measured."""

    gyro: Number = field(unit="rad")
    status: Number = field()
    readings: Number = field()
    bias: Number = field(unit="rad/s")
    noise: Number = field(unit="rad/s")


@kernel
def stands(s: ZeroingSettings, before: ZeroingState, rate: float, sensed: SensedRow) -> bool:
    """Return whether the robot stands still, by its wheels and by how far the gyro is from the mean of its readings."""
    for k in range(len(sensed.speed)):
        if not abs(sensed.speed[k]) < s.stands:
            return False
    mean = div(before.first, larger(before.readings, 1.0))
    return not (before.readings >= SURE and abs(rate - mean) > STILL_RAD_S)


@kernel
def measure_bias(
    s: ZeroingSettings, before: ZeroingState, after: ZeroingState, known: bool, rate: float, sensed: SensedRow
) -> None:
    """Take in a reading of a robot that must stand: the bias is the mean of those at rest, and the noise their standard deviation."""
    if not (known and stands(s, before, rate, sensed)):
        after.status = MOVED if before.readings > 0.0 or before.status == MOVED else WAITS
        after.readings, after.first, after.second = 0.0, 0.0, 0.0
        return
    after.readings, after.first, after.second = before.readings + 1.0, before.first + rate, before.second + rate * rate
    after.status = MEASURES
    if after.readings >= s.ticks:
        after.status = DONE
        after.bias = div(after.first, after.readings)
        after.noise = sqrt(larger(div(after.second, after.readings) - after.bias * after.bias, 0.0))


@kernel
def zeroing_step(
    s: ZeroingSettings, before: ZeroingState, after: ZeroingState, sensed: SensedRow, out: ZeroingColumns
) -> None:
    """Subtract the gyro's bias from its heading; measure the bias on request."""
    after.status, after.readings, after.first, after.second = (
        before.status,
        before.readings,
        before.first,
        before.second,
    )
    after.bias, after.noise, after.taken = before.bias, before.noise, before.taken
    after.gyro = sensed.gyro[0]
    known = not (is_nan(after.gyro) or is_nan(before.gyro))
    if before.status in (WAITS, MEASURES, MOVED):
        measure_bias(s, before, after, known, div(after.gyro - before.gyro, s.dt) if known else 0.0, sensed)
    if known:
        after.taken = before.taken + after.bias * s.dt
    out.gyro, out.status, out.readings = after.gyro - after.taken, after.status, after.readings
    out.bias, out.noise = after.bias, after.noise


class Zeroing(Stage):
    """For rigs with a gyro and a correction: the gyro's heading without the bias that was measured."""

    name = "zeroing"
    begins = MappingProxyType({"gyro": nan})

    def __init__(self, rig: Rig) -> None:
        assert rig.gyro is not None
        self.settings: ZeroingSettings = Form(ZeroingSettings).of(
            ticks=max(2.0, round(rig.gyro.zero_for_s * rig.rate_hz)),
            stands=STANDS_M_S if rig.balance is None else SWAYS_M_S,
            dt=rig.dt_s,
        )
        self.form, self.memory = Form(ZeroingColumns), Form(ZeroingState)
        self.columns = named(
            "zeroing", ("gyro", "rad"), ("status", ""), ("readings", ""), ("bias", "rad/s"), ("noise", "rad/s")
        )

    @classmethod
    def of(cls, rig: Rig, inputs: Inputs) -> Zeroing | None:
        return cls(rig) if rig.gyro is not None and rig.correction is not None else None

    def ask(self, state: ZeroingState) -> ZeroingState:
        """Return the state in which the bias is measured as soon as the robot stands and the gyro speaks."""
        return state._replace(status=WAITS, readings=0.0, first=0.0, second=0.0)

    def rungs(self, tick: WheelTick) -> list[Rung]:
        if not tick("zeroing", "status"):
            return []
        bias, noise = (float(np.degrees(tick("zeroing", n))) for n in ("bias", "noise"))
        words = {
            WAITS: "waits until it stands",
            MEASURES: "measures",
            DONE: "done",
            MOVED: "! it moved; waits until it stands",
        }
        status = words[tick("zeroing", "status")]
        return [
            Rung("zero", f"gyro bias {bias:+.3f} deg/s subtracted, noise {noise:.3f} deg/s ({status})", "gyro.zero_for")
        ]
