"""Axes: raw readings to fractions, signs flipped once. From here on away, left and turning left are +."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from pivrex.line.inputs import Inputs
from pivrex.line.layout import Layout
from pivrex.line.stage import Floats, Rung, Stage, named
from pivrex.line.told import Told
from pivrex.rig.channels import describe_channel, is_one_sided
from pivrex.rig.controls import Axis
from pivrex.rig.rig import Rig

__all__ = ["Axes", "AxesSettings", "calibration", "of_drivers", "to_fractions"]


@dataclass(frozen=True)
class AxesSettings:
    """Calibration of C channels, for P drivers: the first for all sources without one of their own.

    Attributes
    ----------
    rest : (P, 2, C) float64
        The ends of the centre range, the upper and the lower, in raw units. A one-sided channel rests at the end of its
        range.
    per : (P, 2, C) float64
        One over the width of the half above, and minus one over that below; 0 where there is no such half.
    gives : (P, 2, C) float64
        What a whole half gives: +1 or -1.
    """

    rest: Floats
    per: Floats
    gives: Floats


def calibration(drivers: Sequence[Sequence[tuple[str, Axis]]]) -> AxesSettings:
    """Give the settings of channels with their axes, for each driver."""
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
    whole = np.array(rows, float).reshape(len(drivers), -1, 3, 2).transpose(0, 2, 3, 1)
    return AxesSettings(*(whole[:, i].copy() for i in range(3)))


def of_drivers(settings: AxesSettings, driver: NDArray[np.intp] | int) -> AxesSettings:
    """Give the calibration of the drivers of a batch, B + (2, C) each instead of (P, 2, C), from their numbers, B."""
    return AxesSettings(settings.rest[driver], settings.per[driver], settings.gives[driver])


def to_fractions(settings: AxesSettings, raw: Floats) -> Floats:
    """Turn raw readings into fractions.

    Parameters
    ----------
    settings : AxesSettings
        Of one driver, (2, C), or of each robot's, B + (2, C); see `of_drivers`.
    raw : B + (C,) float64
        In the units of each device. NaN (no reading) counts as rest.

    Returns
    -------
    B + (C,) float64
        In [-1, 1]; one-sided channels in [0, 1] (reversed ones in [0, 1] too).

    Notes
    -----
    With the centre range [c0, c1] inside [lo, hi]:

        f = sign · (clip((raw - c1)/(hi - c1), 0, 1) - clip((c0 - raw)/(c0 - lo), 0, 1))

    Each half has its own width; what lies beyond the calibrated range saturates. (Own derivation: the
    piecewise-linear map that is 0 on the centre range and ±1 at the ends.)
    """
    # fmax and fmin take the number where the other side is NaN, so no reading can pass a NaN on
    halves = np.fmin(np.fmax((raw[..., None, :] - settings.rest) * settings.per, 0.0), 1.0) * settings.gives
    fractions: Floats = halves[..., 0, :] + halves[..., 1, :]
    return fractions


class Axes(Stage):
    """The calibration of the law's functions. A source of the rig may have one of its own, which counts while it drives."""

    name = "axes"
    reads = ("clock", "raw")

    def __init__(self, rig: Rig, inputs: Inputs) -> None:
        self.functions = inputs.functions
        self._rig, self._calibrated = rig, inputs.calibrated
        self._names = list(rig.law.axes().values())
        self._channels = inputs.names[: len(self.functions)]
        drivers = ["", *inputs.calibrated]
        self.settings: AxesSettings = calibration(
            [[(rig.channel(n), self.axis(n, driving)[0]) for n in self._names] for driving in drivers]
        )
        self._plain = of_drivers(self.settings, 0)
        self.columns = named("axes", *((f, "") for f in self.functions))

    @classmethod
    def of(cls, rig: Rig, inputs: Inputs) -> Axes:
        return cls(rig, inputs)

    def axis(self, name: str, driving: str) -> tuple[Axis, str]:
        """Give the calibration of an axis while a source drives, and its key in the rig."""
        axis, channel = self._rig.axis(name), self._rig.channel(name)
        source = driving if axis.source == "chosen" else axis.source
        if source in self._rig.sources and channel in self._rig.sources[source].axes:
            return self._rig.sources[source].axes[channel], f"sources.{source}.axes.{channel}"
        return axis, f"axes.{name}" if name in self._rig.axes else ""

    def place(self, layout: Layout) -> None:
        raw = layout.stage("raw").start
        self._in = slice(raw, raw + len(self.functions))
        self._out = layout.stage("axes")
        self._source = layout.at("clock", "source") if self._calibrated else -1

    def step(self, state: object, row: Floats) -> object:
        settings = self._plain
        if self._source >= 0:
            settings = of_drivers(self.settings, row[..., self._source].astype(np.intp))
        row[..., self._out] = to_fractions(settings, row[..., self._in])
        return state

    def phrases(self, told: Told) -> list[str]:
        if not told.by_stick:
            return []
        value, way = told.of_function("axes")
        return [f"{told.control} {value:.2f}{way}"]

    def rungs(self, told: Told) -> list[Rung]:
        source = int(told("clock", "source")) if self._source >= 0 else 0
        driving = self._calibrated[source - 1] if source else ""
        found = []
        for function, name, column in zip(self.functions, self._names, self._channels, strict=True):
            channel = self._rig.channel(name)
            axis, key = self.axis(name, driving)
            centre = f", centre [{axis.centre[0]:g}, {axis.centre[1]:g}]" if axis.centre else ""
            found.append(
                Rung(
                    "trigger" if is_one_sided(channel) else "stick",
                    f"{function}: {describe_channel(channel)} reads {told('raw', column):+.3f}, between {axis.minimum:g} "
                    f"and {axis.maximum:g}{centre} → {told('axes', function):+.3f}",
                    key,
                )
            )
        return found
