"""Tilt: the robot's lean and its rate, from a gyro and accelerometers."""

from __future__ import annotations

from math import degrees
from types import MappingProxyType

from pivrex.kernels.maths import atan2, div, is_nan, larger, nan, sqrt
from pivrex.kernels.records import Form, Number, Numbers, Record, field
from pivrex.kernels.subset import kernel
from pivrex.line.inputs import Inputs
from pivrex.line.stage import Rung, Stage, named
from pivrex.line.wheel_tick import WheelTick
from pivrex.rig.rig import Rig

__all__ = ["DISAGREES", "FROZEN", "LIES", "SILENT", "Tilt", "TiltColumns", "TiltSettings", "TiltState", "tilt_step"]

SILENT, FROZEN, DISAGREES = 1.0, 2.0, 3.0
"""Why a tilt sensor is not trusted."""

LIES = {
    SILENT: "it says nothing",
    FROZEN: "its readings do not change any more",
    DISAGREES: "its gyro and its accelerometers disagree",
}
"""The same in words."""

SILENT_S, FROZEN_S = 0.03, 0.15
"""How long a fault lasts before it counts. A robot that stands still is never quite still: its sensor has noise."""

APART_RAD, APART_S = 0.3, 0.5
"""How far the lean of the accelerometers may be from that of the filter, averaged over the time that is longer than every bump."""

WEIGHT_LOW_G, WEIGHT_HIGH_G = 0.5, 2.0
"""Accelerometers that feel less or more than this are not asked for a lean: something bumps them, or they fall."""


class TiltSettings(Record):
    """The filter.

    Attributes
    ----------
    sign : float
        1, or -1 for a sensor that is mounted the other way round.
    rest : float
        The lean that the sensor says while the robot is in balance, in rad.
    pull : float
        The share of the difference between both leans that is taken in a tick.
    learn : float
        The share of it that goes into the bias in a tick, in 1/s.
    average : float
        The share of a new difference in its average.
    dt : float
    """

    is_settings = True

    sign: Number = field()
    rest: Number = field(unit="rad")
    pull: Number = field()
    learn: Number = field(unit="1/s")
    average: Number = field()
    dt: Number = field(unit="s")


class TiltState(Record):
    """The memory of tilt: the lean, NaN before the first reading, the number of readings, the gyro's bias, the three readings of the tick
    before, the time in s for which the sensor has been silent and frozen, and the averaged difference of both leans.
    """

    lean: Number = field(unit="rad")
    age: Number = field()
    bias: Number = field(unit="rad/s")
    reading: Numbers = field(3)
    silent: Number = field(unit="s")
    frozen: Number = field(unit="s")
    apart: Number = field(unit="rad")


class TiltColumns(Record):
    """The lean and its rate, positive forward; the lean that the accelerometers say by themselves; the bias that the filter has learned;
    and why the sensor is not trusted, 0 if it is.
    """

    lean: Number = field(unit="rad")
    rate: Number = field(unit="rad/s")
    by_weight: Number = field(unit="rad")
    bias: Number = field(unit="rad/s")
    fault: Number = field()


@kernel
def judged(s: TiltSettings, before: TiltState, after: TiltState, tilt: Numbers, apart: float) -> float:
    """Return why the sensor is not trusted, 0 if it is; a fault counts once it has lasted."""
    silent, frozen = False, True
    for k in range(3):
        silent = silent or is_nan(tilt[k])
        frozen = frozen and tilt[k] == before.reading[k]
        after.reading[k] = tilt[k]
    after.silent = before.silent + s.dt if silent else 0.0
    after.frozen = before.frozen + s.dt if frozen else 0.0
    after.apart = before.apart + (apart - before.apart) * s.average
    if after.silent > SILENT_S:
        return SILENT
    if after.frozen > FROZEN_S:
        return FROZEN
    if abs(after.apart) > APART_RAD:
        return DISAGREES
    return 0.0


@kernel
def tilt_step(s: TiltSettings, before: TiltState, after: TiltState, tilt: Numbers, out: TiltColumns) -> None:
    """Take in a tick's readings: the rate in rad/s, the accelerations forward and up in g.

    Notes
    -----
    With a the lean of the accelerometers, atan2(-f_x, f_z), and ω the rate of the gyro less its bias b: θ' = ω + (a - θ)/T and
    b' = -(a - θ)/(T·T_b). So a changes the lean only slowly and ω quickly. It is a complementary filter, and for a gyro whose bias
    wanders it is the stationary Kalman filter too, whose two gains T and T_b stand for the ratio of the noises. (Mahony, Hamel & Pflimlin
    2008; Higgins 1975 for the equivalence.)
    """
    silent = is_nan(tilt[0]) or is_nan(tilt[1]) or is_nan(tilt[2])
    ahead, up = 0.0, 1.0
    rate = 0.0
    if not silent:
        ahead, up = s.sign * tilt[1], tilt[2]
        rate = s.sign * tilt[0] - before.bias
    by_weight = atan2(-ahead, up) - s.rest
    weight = sqrt(ahead * ahead + up * up)
    first = is_nan(before.lean)
    after.lean, after.bias, after.age = before.lean, before.bias, before.age
    apart = 0.0
    if first and not silent:
        after.lean = by_weight
    elif not first:
        after.lean = before.lean + rate * s.dt
        if not silent:
            apart = by_weight - after.lean
            if weight > WEIGHT_LOW_G and weight < WEIGHT_HIGH_G:
                # at first the mean of all readings: a single one has too much noise to begin with
                after.age = before.age + 1.0
                after.lean += larger(s.pull, div(1.0, after.age + 1.0)) * apart
                after.bias = before.bias - s.learn * apart
    out.fault = judged(s, before, after, tilt, apart)
    out.lean = 0.0 if is_nan(after.lean) else after.lean
    out.rate, out.by_weight, out.bias = rate, by_weight, after.bias


class Tilt(Stage):
    """For rigs with a tilt sensor."""

    name = "tilt"
    begins = MappingProxyType({"lean": nan})

    def __init__(self, rig: Rig) -> None:
        table = rig.tilt
        assert table is not None
        pull = rig.dt_s / (table.blend_s + rig.dt_s)
        self._blend_s = table.blend_s
        self.settings: TiltSettings = Form(TiltSettings).of(
            sign=-1.0 if table.reversed else 1.0,
            rest=table.rest_lean_rad,
            pull=pull,
            learn=pull / table.bias_time_s if table.bias_time_s else 0.0,
            average=rig.dt_s / (APART_S + rig.dt_s),
            dt=rig.dt_s,
        )
        self.form, self.memory = Form(TiltColumns), Form(TiltState)
        self.columns = named(
            "tilt", ("lean", "rad"), ("rate", "rad/s"), ("by_weight", "rad"), ("bias", "rad/s"), ("fault", "")
        )
        self.kept_while = (table.reversed,)

    @classmethod
    def of(cls, rig: Rig, inputs: Inputs) -> Tilt | None:
        return cls(rig) if rig.tilt is not None else None

    def rungs(self, tick: WheelTick) -> list[Rung]:
        lean, rate, by_weight, bias, fault = (tick("tilt", c.name) for c in self.columns)
        text = (
            f"gyro {degrees(rate):+.1f} deg/s (bias {degrees(bias):+.2f}), accelerometers {degrees(by_weight):+.1f} deg, blended over "
            f"{self._blend_s:g} s → lean {degrees(lean):+.1f} deg"
        )
        return [Rung("tilt", text, "tilt.blend", f"! the tilt sensor is not trusted: {LIES[fault]}" if fault else "")]
