"""The curve: gentle near the centre, full at the end."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from pivrex.line.inputs import Inputs
from pivrex.line.layout import Layout
from pivrex.line.stage import Floats, Rung, Stage, named
from pivrex.line.told import Told
from pivrex.rig.controls import ChannelShaping
from pivrex.rig.rig import Rig

__all__ = ["Curve", "CurveSettings", "curve", "describe_curve", "settings_of"]


@dataclass(frozen=True)
class CurveSettings:
    """The curves of C channels.

    Attributes
    ----------
    strength, straight : (C,) float64
        Of the cubic blend, 0 to 1, and what is left of 1.
    tabled : (T,) int
        Channels that follow a table of points instead.
    xs, ys : tuple of (N,) float64
        The tables.
    pair : (2,) int
        The two channels of one stick that are shaped by its distance, so that its direction stays; empty if none are.
    """

    strength: Floats
    straight: Floats
    tabled: NDArray[np.intp]
    xs: tuple[Floats, ...]
    ys: tuple[Floats, ...]
    pair: NDArray[np.intp]


def settings_of(rig: Rig) -> CurveSettings:
    """Take the curves of the functions of a rig's law."""
    axes = list(rig.law.axes())
    each = [rig.shaping.of(role) for role in axes]
    tabled = [i for i, s in enumerate(each) if s.points]
    tables = [np.array(each[i].points, float).T for i in tabled]
    pair = [axes.index("forward"), axes.index("sideways")] if rig.keeps_direction else []
    return CurveSettings(
        strength=np.array([s.curve for s in each]),
        straight=np.array([1.0 - s.curve for s in each]),
        tabled=np.array(tabled, np.intp),
        xs=tuple(t[0].copy() for t in tables),
        ys=tuple(t[1].copy() for t in tables),
        pair=np.array(pair, np.intp),
    )


def curve(settings: CurveSettings, fractions: Floats) -> Floats:
    """Bend the response, oddly symmetric.

    Parameters
    ----------
    settings : CurveSettings
    fractions : B + (C,) float64
        In [-1, 1].

    Returns
    -------
    B + (C,) float64
        In [-1, 1].

    Notes
    -----
    The cubic blend is y = (1 - k)·x + k·x³; it keeps 0 and ±1 and never falls for 0 ≤ k ≤ 1. A table is joined by
    straight lines and mirrored through the origin. With a pair the first one's curve c bends the stick's distance
    r = min(√(x₁² + x₂²), 1), and both are multiplied by c(r)/r, so the push keeps its direction.
    """
    bent = _bend(settings, fractions)
    if settings.pair.size:
        pushed = fractions[..., settings.pair]
        distance = np.minimum(np.sqrt((pushed * pushed).sum(axis=-1, keepdims=True)), 1.0)
        # the first function's curve of the distance; the others' columns are only carried along
        along = np.broadcast_to(distance, fractions.shape).copy()
        bowed = _bend(settings, along)[..., settings.pair[:1]]
        bent[..., settings.pair] = pushed * np.where(distance > 0, bowed / np.where(distance > 0, distance, 1.0), 0.0)
    return bent


def _bend(settings: CurveSettings, fractions: Floats) -> Floats:
    bent: Floats = fractions * (settings.straight + settings.strength * (fractions * fractions))
    if not settings.xs:
        return bent
    for channel, xs, ys in zip(settings.tabled, settings.xs, settings.ys, strict=True):
        x = fractions[..., channel]
        bent[..., channel] = np.copysign(np.interp(np.abs(x), xs, ys), x)
    return bent


def describe_curve(shaping: ChannelShaping) -> str:
    """Say a channel's curve in a few words."""
    return f"table of {len(shaping.points)} points" if shaping.points else f"cubic {shaping.curve * 100:g} %"


class Curve(Stage):
    """The curves of the law's functions."""

    name = "curve"
    reads = ("band",)

    def __init__(self, rig: Rig, functions: tuple[str, ...]) -> None:
        self.functions = functions
        self._shaping = rig.shaping
        self.settings: CurveSettings = settings_of(rig)
        self._paired = {functions[i] for i in self.settings.pair.tolist()}
        self.columns = named("curve", *((f, "") for f in functions))

    @classmethod
    def of(cls, rig: Rig, inputs: Inputs) -> Curve:
        return cls(rig, inputs.functions)

    def place(self, layout: Layout) -> None:
        self._in, self._out = layout.stage("band"), layout.stage("curve")

    def step(self, state: object, row: Floats) -> object:
        row[..., self._out] = curve(self.settings, row[..., self._in])
        return state

    def phrases(self, told: Told) -> list[str]:
        return [f"curve {told.of_function('curve')[0]:.2f}"] if told.by_stick else []

    def rungs(self, told: Told) -> list[Rung]:
        found = []
        for function in self.functions:
            by = "forward" if function in self._paired else function
            how = describe_curve(self._shaping.of(by)) + (
                " of the stick's distance" if function in self._paired else ""
            )
            text = f"{function}: {told('band', function):+.3f}, {how} → {told('curve', function):+.3f}"
            found.append(Rung("curve", text, f"shaping.{by}.curve"))
        return found
