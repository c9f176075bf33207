"""The dead band: what a stick may do without anything happening."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from pivrex.line.inputs import Inputs
from pivrex.line.layout import Layout
from pivrex.line.stage import Floats, Rung, Stage, named
from pivrex.line.told import Told
from pivrex.rig.channels import is_one_sided, stick_of
from pivrex.rig.rig import Rig

__all__ = ["Band", "BandSettings", "dead_band", "rescaled", "settings_of"]

_TINY = 1e-12

AXIS, STICK, SUM = range(3)
MEASURES = {"axis": AXIS, "stick": STICK, "sum": SUM}


@dataclass(frozen=True)
class BandSettings:
    """The dead band of C channels.

    Attributes
    ----------
    measure : int
        What is measured: AXIS, STICK or SUM.
    cut : bool
        The onset: True jumps to the value as it is, False starts from 0 at the edge.
    edge : (C,) float64
        Where the dead band ends; at least 1e-12.
    per_rest : (C,) float64
        One over what is left beyond the edge, 1/(1 - e).
    together : (C, C) float64
        1 where two channels belong to one stick.
    norms : (2·C, C) float64
        Sums over each channel's stick, then the same with every channel divided by its edge; squared for STICK.
    """

    measure: int
    cut: bool
    edge: Floats
    per_rest: Floats
    together: Floats
    norms: Floats


def settings_of(rig: Rig) -> BandSettings:
    """Take the dead bands of the functions of a rig's law."""
    axes = rig.law.axes()
    sticks = [stick_of(rig.channel(name)) for name in axes.values()]
    together = np.array(
        [
            [float(a == b and not is_one_sided(a)) or float(i == j) for j, b in enumerate(sticks)]
            for i, a in enumerate(sticks)
        ]
    )
    edge = np.maximum([rig.shaping.of(role).edge for role in axes], _TINY)
    measure = MEASURES[rig.shaping.measure]
    return BandSettings(
        measure=measure,
        cut=rig.shaping.onset == "cut",
        edge=edge,
        per_rest=1 / (1 - edge),
        together=together,
        norms=np.concatenate((together, together / (edge**2 if measure == STICK else edge))),
    )


def rescaled(fractions: Floats, edge: Floats | float, per_rest: Floats | float) -> Floats:
    """Take out the dead band of single axes, rescaled from its edge: sign(f)·max(|f| - e, 0)/(1 - e). Any shape."""
    return np.copysign(np.maximum(np.abs(fractions) - edge, 0.0) * per_rest, fractions)


def dead_band(settings: BandSettings, fractions: Floats) -> Floats:
    """Take out what lies inside the dead band.

    Parameters
    ----------
    settings : BandSettings
    fractions : B + (C,) float64
        In [-1, 1].

    Returns
    -------
    B + (C,) float64
        In [-1, 1], with the signs of ``fractions``.

    Notes
    -----
    The measure N of a channel is |f| (axis), the root of the sum of squares over its stick (stick), or the sum of
    magnitudes over its stick (sum). With each channel divided by its own edge the same norm gives m, which is 1 on
    the edge: for the measure *stick* with edges e₁ and e₂ the dead band is the ellipse (f₁/e₁)² + (f₂/e₂)² ≤ 1, for
    *sum* the rhombus |f₁|/e₁ + |f₂|/e₂ ≤ 1. Inside (m ≤ 1) the result is 0. Outside, with the onset *cut* it is f;
    *rescaled* it is

        f · (1 - 1/m) / (1 - N/m)

    along the ray through f: 0 at the edge, where N is N/m, and f at N = 1. So the push keeps its direction. For one axis
    this is the usual (|f| - e)/(1 - e), which is how it is computed then. A stick in the corner of its gate (N > 1)
    saturates. (Own derivation.)
    """
    if settings.measure == AXIS:
        if settings.cut:
            return np.where(np.abs(fractions) > settings.edge, fractions, 0.0)
        return rescaled(fractions, settings.edge, settings.per_rest)
    count = fractions.shape[-1]
    if settings.measure == STICK:
        norms = np.sqrt(np.einsum("ij,...j->...i", settings.norms, fractions * fractions))
    else:
        norms = np.einsum("ij,...j->...i", settings.norms, np.abs(fractions))
    size, m = norms[..., :count], norms[..., count:]
    if settings.cut:
        return np.where(m > 1.0, fractions, 0.0)
    m = np.maximum(m, 1.0)
    # the formula with m multiplied out; m - N is m·(1 - edge along the ray), which a corner can bring near 0: hence the floor
    gain = (m - 1.0) / np.maximum(m - size, 0.05 * m)
    return np.maximum(np.minimum(fractions * gain, 1.0), -1.0)


class Band(Stage):
    """The dead band of the law's functions."""

    name = "band"
    reads = ("axes",)

    def __init__(self, rig: Rig, functions: tuple[str, ...]) -> None:
        self.functions = functions
        self._shaping = rig.shaping
        self.settings: BandSettings = settings_of(rig)
        self.columns = named("band", *((f, "") for f in functions))

    @classmethod
    def of(cls, rig: Rig, inputs: Inputs) -> Band:
        return cls(rig, inputs.functions)

    def place(self, layout: Layout) -> None:
        self._in, self._out = layout.stage("axes"), layout.stage("band")

    def step(self, state: object, row: Floats) -> object:
        row[..., self._out] = dead_band(self.settings, row[..., self._in])
        return state

    def phrases(self, told: Told) -> list[str]:
        return [f"band {told.of_function('band')[0]:.2f}"] if told.by_stick else []

    def rungs(self, told: Told) -> list[Rung]:
        measured = {"axis": "by itself", "stick": "by the stick's distance", "sum": "by the sum of both axes"}
        found = []
        for function in self.functions:
            before, after = told("axes", function), told("band", function)
            edge = self._shaping.of(function).edge
            found.append(
                Rung(
                    "band",
                    f"{function}: {before:+.3f}, edge {edge * 100:g} % {measured[self._shaping.measure]}, "
                    f"{self._shaping.onset} → {after:+.3f}",
                    f"shaping.{function}.edge",
                    "inside the dead band" if before and not after else "",
                )
            )
        return found
