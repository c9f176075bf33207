"""The curve: gentle near the centre, full at the end of the travel."""

from __future__ import annotations

import numpy as np

from pivrex.kernels.maths import copysign, div, hypot, smaller
from pivrex.kernels.records import Form, Numbers, Record, Wholes, field
from pivrex.kernels.subset import kernel
from pivrex.line.inputs import Inputs
from pivrex.line.stage import Fractions, Rung, Stage, named
from pivrex.line.wheel_tick import WheelTick
from pivrex.rig.controls import ChannelShaping
from pivrex.rig.rig import Rig

__all__ = ["Curve", "CurveSettings", "curve_step", "describe_curve", "settings_of"]


class CurveSettings(Record):
    """The curves of C channels.

    Attributes
    ----------
    strength : (C,)
        Of the cubic blend, 0 to 1.
    first, many : (C,)
        Where the table of a channel begins that follows one instead, and how many points it has; 0 points without.
    xs, ys : (N,)
        The tables.
    pair : (0,) or (2,)
        The two channels of one stick that are shaped by its distance, so that its direction stays.
    """

    is_settings = True

    strength: Numbers = field("functions")
    first: Wholes = field("functions")
    many: Wholes = field("functions")
    xs: Numbers = field("points")
    ys: Numbers = field("points")
    pair: Wholes = field("pair")


def settings_of(rig: Rig) -> CurveSettings:
    """Return the curves of the functions of a rig's law."""
    axes = list(rig.law.axes())
    each = [rig.shaping.of(role) for role in axes]
    points = [tuple(p) for s in each for p in s.points]
    many = [len(s.points) for s in each]
    pair = [axes.index("forward"), axes.index("sideways")] if rig.keeps_direction else []
    made: CurveSettings = Form(CurveSettings, functions=len(axes), points=len(points), pair=len(pair)).of(
        strength=[s.curve for s in each],
        first=np.cumsum([0, *many])[:-1],
        many=many,
        xs=[x for x, _ in points],
        ys=[y for _, y in points],
        pair=pair,
    )
    return made


@kernel
def interpolated(s: CurveSettings, k: int, x: float) -> float:
    """Return the table of channel k at x: straight between its points, level outside them."""
    begin, end = s.first[k], s.first[k] + s.many[k] - 1
    if x <= s.xs[begin]:
        return s.ys[begin]
    for i in range(begin, end):
        if x < s.xs[i + 1]:
            return s.ys[i] + div(s.ys[i + 1] - s.ys[i], s.xs[i + 1] - s.xs[i]) * (x - s.xs[i])
    return s.ys[end]


@kernel
def bent(s: CurveSettings, k: int, x: float) -> float:
    """Return what the curve of channel k makes of a fraction, oddly symmetric.

    Notes
    -----
    The cubic blend is y = (1 - k)·x + k·x³; it keeps 0 and ±1 and never falls for 0 ≤ k ≤ 1. A table is joined by
    straight lines and mirrored through the origin.
    """
    if s.many[k] > 0:
        return copysign(interpolated(s, k, abs(x)), x)
    return x * ((1.0 - s.strength[k]) + s.strength[k] * (x * x))


@kernel
def curve_step(s: CurveSettings, band: Fractions, out: Fractions) -> None:
    """Bend the response. With a pair the first one's curve c bends the stick's distance r = min(√(x₁² + x₂²), 1), and both are
    multiplied by c(r)/r, so the push keeps its direction.
    """
    for k in range(len(out.value)):
        out.value[k] = bent(s, k, band.value[k])
    if len(s.pair) > 0:
        a, b = s.pair[0], s.pair[1]
        distance = smaller(hypot(band.value[a], band.value[b]), 1.0)
        gain = div(bent(s, a, distance), distance) if distance > 0.0 else 0.0
        out.value[a], out.value[b] = band.value[a] * gain, band.value[b] * gain


def describe_curve(shaping: ChannelShaping) -> str:
    """Say a channel's curve in a few words."""
    return f"table of {len(shaping.points)} points" if shaping.points else f"cubic {shaping.curve * 100:g} %"


class Curve(Stage):
    """The curves of the law's functions."""

    name = "curve"

    def __init__(self, rig: Rig, functions: tuple[str, ...]) -> None:
        self.functions = functions
        self._shaping = rig.shaping
        self.settings: CurveSettings = settings_of(rig)
        self._paired = {functions[i] for i in self.settings.pair.astype(int).tolist()}
        self.columns = named("curve", *((f, "") for f in functions))
        self.form = Form(Fractions, functions=len(functions))

    @classmethod
    def of(cls, rig: Rig, inputs: Inputs) -> Curve:
        return cls(rig, inputs.functions)

    def phrases(self, tick: WheelTick) -> list[str]:
        return [f"curve {tick.of_function('curve')[0]:.2f}"] if tick.by_stick else []

    def rungs(self, tick: WheelTick) -> list[Rung]:
        found = []
        for function in self.functions:
            by = "forward" if function in self._paired else function
            how = describe_curve(self._shaping.of(by)) + (
                " of the stick's distance" if function in self._paired else ""
            )
            text = f"{function}: {tick('band', function):+.3f}, {how} → {tick('curve', function):+.3f}"
            found.append(Rung("curve", text, f"{self._shaping.key(by)}.curve"))
        return found
