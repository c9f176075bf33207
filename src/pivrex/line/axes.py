"""Axes: raw readings to fractions, with signs flipped once. From here on forward, left and turning left are +."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from pivrex.kernels.maths import clamp, is_nan, whole
from pivrex.kernels.records import Form, Numbers, Record, field
from pivrex.kernels.subset import kernel
from pivrex.line.input_stages import ClockColumns, RawColumns
from pivrex.line.inputs import Inputs
from pivrex.line.stage import Fractions, Rung, Stage, named
from pivrex.line.wheel_tick import WheelTick
from pivrex.rig.channels import describe_channel, is_one_sided
from pivrex.rig.controls import Axis
from pivrex.rig.rig import Rig

__all__ = ["Axes", "AxesSettings", "axes_step", "calibration", "fraction_of"]


class AxesSettings(Record):
    """Calibration of C channels, for P drivers: the first for all sources without one of their own.

    Attributes
    ----------
    rest : (P, 2, C)
        The ends of the centre range, the upper and the lower, in raw units. A one-sided channel rests at the end of its
        range.
    per : (P, 2, C)
        One over the width of the half above, and minus one over that below; 0 where there is no such half.
    gives : (P, 2, C)
        What a whole half gives: +1 or -1.
    """

    is_settings = True

    rest: Numbers = field("drivers", 2, "channels")
    per: Numbers = field("drivers", 2, "channels")
    gives: Numbers = field("drivers", 2, "channels")


@kernel
def fraction_of(s: AxesSettings, driver: int, k: int, raw: float) -> float:
    """Return a raw reading of channel k as a fraction in [-1, 1]; of a one-sided channel in [0, 1]. NaN (no reading) counts as rest.

    Notes
    -----
    With the centre range [c0, c1] inside [lo, hi]:

        f = sign · (clip((raw - c1)/(hi - c1), 0, 1) - clip((c0 - raw)/(c0 - lo), 0, 1))

    Each half has its own width; what lies beyond the calibrated range saturates. (Own derivation: the
    piecewise-linear map that is 0 on the centre range and ±1 at the ends.)
    """
    total = 0.0
    for half in range(2):
        share = (raw - s.rest[driver][half][k]) * s.per[driver][half][k]
        if not is_nan(share):
            total += clamp(share, 0.0, 1.0) * s.gives[driver][half][k]
    return total


@kernel
def axes_step(s: AxesSettings, clock: ClockColumns, raw: RawColumns, out: Fractions) -> None:
    """Turn the readings of the law's functions into fractions, by the calibration of the source that drives."""
    driver = 0
    if len(clock.source) > 0:
        driver = whole(clock.source[0])
    for k in range(len(out.value)):
        out.value[k] = fraction_of(s, driver, k, raw.reading[k])


def calibration(drivers: Sequence[Sequence[tuple[str, Axis]]]) -> AxesSettings:
    """Return the settings of channels with their axes, for each driver."""
    rows = []
    for axes in drivers:
        for channel, axis in axes:
            if is_one_sided(channel):
                low = high = axis.maximum if axis.reversed else axis.minimum
                sign = -1.0 if axis.reversed else 1.0
            else:
                middle = (axis.minimum + axis.maximum) / 2
                low, high = axis.centre if axis.centre is not None else (middle, middle)
                sign = 1.0 if axis.reversed else -1.0
            below, above = low - axis.minimum, axis.maximum - high
            rows.append((high, low, 1 / above if above else 0.0, -1 / below if below else 0.0, sign, -sign))
    values = np.array(rows, float).reshape(len(drivers), -1, 3, 2).transpose(0, 2, 3, 1)
    made: AxesSettings = Form(AxesSettings, drivers=len(drivers), channels=values.shape[-1]).of(
        rest=values[:, 0], per=values[:, 1], gives=values[:, 2]
    )
    return made


class Axes(Stage):
    """The calibration of the law's functions. A source of the rig may have one of its own, which counts while it drives."""

    name = "axes"

    def __init__(self, rig: Rig, inputs: Inputs) -> None:
        self.functions = inputs.functions
        self._rig, self._calibrated = rig, inputs.calibrated
        self._names = list(rig.law.axes().values())
        self._channels = inputs.names[: len(self.functions)]
        drivers = ["", *inputs.calibrated]
        self.settings: AxesSettings = calibration(
            [[(rig.channel(n), self.axis(n, driving)[0]) for n in self._names] for driving in drivers]
        )
        self.form = Form(Fractions, functions=len(self.functions))
        self.columns = named("axes", *((f, "") for f in self.functions))

    @classmethod
    def of(cls, rig: Rig, inputs: Inputs) -> Axes:
        return cls(rig, inputs)

    def axis(self, name: str, driving: str) -> tuple[Axis, str]:
        """Return the calibration of an axis while a source drives, and its key in the rig."""
        axis, channel = self._rig.axis(name), self._rig.channel(name)
        source = driving if axis.source == "chosen" else axis.source
        if source in self._rig.sources and channel in self._rig.sources[source].axes:
            return self._rig.sources[source].axes[channel], f"sources.{source}.axes.{channel}"
        return axis, f"axes.{name}" if name in self._rig.axes else ""

    def uncalibrated(self, k: int, driver: int, raw: float) -> float:
        """Return the reading of function k that is, by the plain calibration, what ``raw`` is by that of a driver."""
        s = self.settings.plain
        fraction = fraction_of(s, driver, k, raw)
        for rest, per, gives in zip(s.rest[0], s.per[0], s.gives[0], strict=True):
            if fraction * gives[k] > 0.0 and per[k] != 0.0:
                return float(rest[k] + abs(fraction) / per[k])
        return float(s.rest[0][0][k])

    def phrases(self, tick: WheelTick) -> list[str]:
        if not tick.by_stick:
            return []
        value, way = tick.of_function("axes")
        return [f"{tick.control} {value:.2f}{way}"]

    def rungs(self, tick: WheelTick) -> list[Rung]:
        source = int(tick("clock", "source")) if self._calibrated else 0
        driving = self._calibrated[source - 1] if source else ""
        found = []
        for function, name, column in zip(self.functions, self._names, self._channels, strict=True):
            channel = self._rig.channel(name)
            axis, key = self.axis(name, driving)
            centre = f", centre [{axis.centre[0]:g}, {axis.centre[1]:g}]" if axis.centre else ""
            found.append(
                Rung(
                    "trigger" if is_one_sided(channel) else "stick",
                    f"{function}: {describe_channel(channel)} reads {tick('raw', column):+.3f}, between {axis.minimum:g} "
                    f"and {axis.maximum:g}{centre} → {tick('axes', function):+.3f}",
                    key,
                )
            )
        return found
