"""The dead band: the range of a stick that does nothing."""

from __future__ import annotations

import numpy as np

from pivrex.kernels.maths import clamp, copysign, div, larger, sqrt
from pivrex.kernels.records import Flag, Flags, Form, Numbers, Record, Whole, field
from pivrex.kernels.subset import kernel
from pivrex.line.inputs import Inputs
from pivrex.line.stage import Fractions, Rung, Stage, named
from pivrex.line.wheel_tick import WheelTick
from pivrex.rig.channels import is_one_sided, stick_of
from pivrex.rig.rig import Rig

__all__ = ["Band", "BandSettings", "band_step", "rescaled", "settings_of"]

_TINY = 1e-12

AXIS, STICK, SUM = 0, 1, 2
MEASURES = {"axis": AXIS, "stick": STICK, "sum": SUM}


class BandSettings(Record):
    """The dead band of C channels.

    Attributes
    ----------
    measure : int
        What is measured: AXIS, STICK or SUM.
    jump : flag
        After the dead band: True jumps to the value as it is, False starts from 0.
    dead_band : (C,)
        Where the dead band ends; at least 1e-12.
    per_rest : (C,)
        One over what is left outside it, 1/(1 - e).
    together : (C, C) flags
        Which channels belong to one stick.
    """

    is_settings = True

    measure: Whole = field()
    jump: Flag = field()
    dead_band: Numbers = field("functions")
    per_rest: Numbers = field("functions")
    together: Flags = field("functions", "functions")


def settings_of(rig: Rig) -> BandSettings:
    """Return the dead bands of the functions of a rig's law."""
    axes = rig.law.axes()
    sticks = [stick_of(rig.channel(name)) for name in axes.values()]
    together = np.array(
        [
            [float(a == b and not is_one_sided(a)) or float(i == j) for j, b in enumerate(sticks)]
            for i, a in enumerate(sticks)
        ]
    )
    dead_band = np.maximum([rig.shaping.of(role).dead_band for role in axes], _TINY)
    made: BandSettings = Form(BandSettings, functions=len(sticks)).of(
        measure=MEASURES[rig.shaping.measure],
        jump=rig.shaping.after_dead_band == "with a jump",
        dead_band=dead_band,
        per_rest=1 / (1 - dead_band),
        together=together,
    )
    return made


@kernel
def rescaled(fraction: float, dead_band: float, per_rest: float) -> float:
    """Take out the dead band of a single axis, from zero: sign(f)·max(|f| - e, 0)/(1 - e)."""
    return copysign(larger(abs(fraction) - dead_band, 0.0) * per_rest, fraction)


@kernel
def norms(s: BandSettings, k: int, axes: Fractions) -> tuple[float, float]:
    """Return how far the stick of channel k is pushed, N, and the same with each channel divided by its own dead band, m."""
    size, m = 0.0, 0.0
    for j in range(len(axes.value)):
        if s.together[k][j]:
            f, share = axes.value[j], div(axes.value[j], s.dead_band[j])
            size += f * f if s.measure == STICK else abs(f)
            m += share * share if s.measure == STICK else abs(share)
    if s.measure == STICK:
        return sqrt(size), sqrt(m)
    return size, m


@kernel
def band_step(s: BandSettings, axes: Fractions, out: Fractions) -> None:
    """Remove the dead band; the result is in [-1, 1] with the signs of the fractions.

    Notes
    -----
    The measure N of a channel is |f| (axis), the root of the sum of squares over its stick (stick), or the sum of
    magnitudes over its stick (sum). With each channel divided by its own dead band the same norm gives m, which is 1 where
    it ends: for the measure *stick* with dead bands e₁ and e₂ the dead band is the ellipse (f₁/e₁)² + (f₂/e₂)² ≤ 1, for
    *sum* the rhombus |f₁|/e₁ + |f₂|/e₂ ≤ 1. Inside (m ≤ 1) the result is 0. Outside, *with a jump* it is f; *from zero*
    it is

        f · (1 - 1/m) / (1 - N/m)

    along the ray through f: 0 where the dead band ends and N is N/m, and f at N = 1. So the push keeps its direction. For one axis
    this is the usual (|f| - e)/(1 - e), which is how it is computed then. A stick in the corner of its gate (N > 1)
    saturates. (Own derivation.)
    """
    for k in range(len(out.value)):
        f = axes.value[k]
        if s.measure == AXIS:
            if s.jump:
                out.value[k] = f if abs(f) > s.dead_band[k] else 0.0
            else:
                out.value[k] = rescaled(f, s.dead_band[k], s.per_rest[k])
        else:
            size, m = norms(s, k, axes)
            if s.jump:
                out.value[k] = f if m > 1.0 else 0.0
            else:
                m = larger(m, 1.0)
                # the formula with m multiplied out; m - N is m·(1 - dead band along the ray), which a corner can bring near 0: hence the floor
                out.value[k] = clamp(f * div(m - 1.0, larger(m - size, 0.05 * m)), -1.0, 1.0)


class Band(Stage):
    """The dead band of the law's functions."""

    name = "band"

    def __init__(self, rig: Rig, functions: tuple[str, ...]) -> None:
        self.functions = functions
        self._shaping = rig.shaping
        self.settings: BandSettings = settings_of(rig)
        self.columns = named("band", *((f, "") for f in functions))
        self.form = Form(Fractions, functions=len(functions))

    @classmethod
    def of(cls, rig: Rig, inputs: Inputs) -> Band:
        return cls(rig, inputs.functions)

    def phrases(self, tick: WheelTick) -> list[str]:
        return [f"band {tick.of_function('band')[0]:.2f}"] if tick.by_stick else []

    def rungs(self, tick: WheelTick) -> list[Rung]:
        measured = {"axis": "by itself", "stick": "by the stick's distance", "sum": "by the sum of both axes"}
        found = []
        for function in self.functions:
            before, after = tick("axes", function), tick("band", function)
            dead_band = self._shaping.of(function).dead_band
            found.append(
                Rung(
                    "band",
                    f"{function}: {before:+.3f}, dead band {dead_band * 100:g} % {measured[self._shaping.measure]}, "
                    f"{self._shaping.after_dead_band} → {after:+.3f}",
                    f"{self._shaping.key(function)}.dead_band",
                    "inside the dead band" if before and not after else "",
                )
            )
        return found
