"""Axes: raw readings to fractions, signs flipped once. From here on away, left and turning left are +."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from pivrex.rig.channels import is_one_sided
from pivrex.rig.rig import Rig

__all__ = ["AxesSettings", "settings_of", "to_fractions"]

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class AxesSettings:
    """Calibration of C channels.

    Attributes
    ----------
    low, high : (C,) float64
        The ends of the centre range, in raw units. A one-sided channel rests at the end of its range.
    per_low, per_high : (C,) float64
        One over the width of the half below and above the centre; 0 where there is no such half.
    sign : (C,) float64
        -1 where a smaller reading means more, as with sticks; +1 for triggers.
    """

    low: Floats
    high: Floats
    per_low: Floats
    per_high: Floats
    sign: Floats


def settings_of(rig: Rig, names: list[str], driving: str = "") -> AxesSettings:
    """Take the calibration of the named axes from a rig; of ``driving``, a source with its own, where that drives."""
    rows = []
    for name in names:
        axis = rig.axis(name)
        source = driving if axis.source == "chosen" else axis.source
        if source in rig.sources:
            axis = rig.sources[source].axes.get(rig.channel(name), axis)
        if is_one_sided(rig.channel(name)):
            rest = axis.maximum if axis.reversed else axis.minimum
            low = high = rest
            sign = -1.0 if axis.reversed else 1.0
        else:
            middle = (axis.minimum + axis.maximum) / 2
            low, high = axis.centre if axis.centre is not None else (middle, middle)
            sign = 1.0 if axis.reversed else -1.0
        below, above = low - axis.minimum, axis.maximum - high
        rows.append((low, high, 1 / below if below else 0.0, 1 / above if above else 0.0, sign))
    return AxesSettings(*np.array(rows, float).reshape(-1, 5).T.copy())


def to_fractions(settings: AxesSettings, raw: Floats) -> Floats:
    """Turn raw readings into fractions.

    Parameters
    ----------
    settings : AxesSettings
    raw : B + (C,) float64
        In the units of each device. NaN (no reading) counts as rest.

    Returns
    -------
    B + (C,) float64
        In [-1, 1]; one-sided channels in [0, 1].

    Notes
    -----
    With the centre range [c0, c1] inside [lo, hi]:

        f = sign · (clip((raw - c1)/(hi - c1), 0, 1) - clip((c0 - raw)/(c0 - lo), 0, 1))

    Each half has its own width; what lies beyond the calibrated range saturates. (Own derivation: the
    piecewise-linear map that is 0 on the centre range and ±1 at the ends.)
    """
    # fmax and fmin take the number where the other side is NaN, so no reading can pass a NaN on
    above = np.fmin(np.fmax((raw - settings.high) * settings.per_high, 0.0), 1.0)
    below = np.fmin(np.fmax((settings.low - raw) * settings.per_low, 0.0), 1.0)
    return settings.sign * (above - below)
