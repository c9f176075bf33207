"""Drawings of a driver's stick: the response curve with the live point on it, and the stick's gate."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache
from math import isfinite

import numpy as np
from numpy.typing import NDArray

from pivrex.scene.chart import between
from pivrex.scene.scene import Box, Margins, Scene

__all__ = ["CurveData", "GateData", "curve_ground", "curve_scene", "gate_scene"]

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class CurveData:
    """The data of a curve drawing.

    Attributes
    ----------
    title : str
    x, y : (N,) float64
        The response, in fractions.
    ghost : (N,) float64 or None
        The response before the last change.
    dead_band : float
        The dead band.
    live : (float, float, float) or None
        The stick's fraction, where the curve takes it, and where the rate limit lets it be now.
    full : str
        What 1 means, such as "0.65 m/s".
    one_sided : bool
        For triggers: only the right half.
    ends : tuple of str
        What the left and right end of the drawing are called.
    heights : tuple of str
        The command at its lower and upper edge.
    mirrored : bool
        Whether + is drawn to the left and down: a turn, where left is +, so that a stick pushed right moves right.
    """

    title: str
    x: Floats
    y: Floats
    ghost: Floats | None
    dead_band: float
    live: tuple[float, float, float] | None
    full: str
    one_sided: bool = False
    ends: tuple[str, str] = ("back", "forward")
    heights: tuple[str, str] = ("back", "forward")
    mirrored: bool = False


def curve_ground(data: CurveData) -> Scene:
    """Draw everything but the live points: it stays until the response changes."""
    low, sign = (0.0 if data.one_sided else -1.0), (-1.0 if data.mirrored else 1.0)
    scene = Scene(Box(low, low, 1.0, 1.0), equal=False, margins=Margins(8, 1, 2, 2))
    scene.caption(data.title, "title")
    scene.caption(data.full, "dim", "top right")
    scene.caption("○ requested ● now", "dim")
    left = 0.0 if data.one_sided else -data.dead_band
    scene.area([(left, low), (data.dead_band, low), (data.dead_band, 1.0), (left, 1.0)], "band")
    scene.line([(low, 0.0), (1.0, 0.0)], "frame", 0.2)
    scene.line([(0.0, low), (0.0, 1.0)], "frame", 0.2)
    order = np.argsort(sign * data.x)
    x, y = sign * data.x[order], sign * data.y[order]
    if data.ghost is not None and not np.array_equal(data.ghost, data.y):
        before = sign * data.ghost[order]
        between(scene, x, y, before, "gap")
        scene.line(np.stack((x, before), axis=1), "ghost", 0.3, 0.9)
    scene.line(np.stack((x, y), axis=1), "commanded", 0.5)
    for value, text in ((1.0, "1"), (0.0, "0"), *(((low, "1"),) if low else ())):
        scene.label((low, value), text, "dim", 1.0, "left")
    scene.label((low, 0.86), data.heights[1], "dim", 0.9, "left")
    if not data.one_sided:
        scene.label((low, -0.86), data.heights[0], "dim", 0.9, "left")
    dead_band = f"dead band {'' if data.one_sided else '±'}{data.dead_band * 100:.0f} %"
    scene.label((0.5 if data.one_sided else 0.0, low), dead_band, "target", 3.0, "below")
    scene.label((low, low), data.ends[0], "dim", 1.0, "below-from")
    scene.label((1.0, low), data.ends[1], "dim", 1.0, "below-to")
    return scene


def curve_scene(data: CurveData, ground: Scene) -> Scene:
    """Draw the live points onto a ground: ○ what the stick asks for, ● what the rate limit lets be now."""
    scene = Scene(ground.box, equal=False, margins=ground.margins, below=ground)
    if data.live is not None:
        low, sign = ground.box.left, (-1.0 if data.mirrored else 1.0)
        stick, there, now = (max(low, min(1.0, v)) if isfinite(v) else 0.0 for v in data.live)
        scene.sign((sign * stick, sign * there), "○", "commanded")
        scene.sign((sign * stick, sign * now), "●", "measured")
    return scene


@dataclass(frozen=True)
class GateData:
    """The data of a gate drawing: points as (across, up), right and forward positive.

    Attributes
    ----------
    raw, shaped : (N, 2) float64
        The last positions, newest last.
    dead_band_across, dead_band_up : float
        The dead bands of the two axes.
    measure : str
        "axis", "stick" or "sum".
    """

    raw: Floats
    shaped: Floats
    dead_band_across: float
    dead_band_up: float
    measure: str


@lru_cache(maxsize=16)
def _gate_ground(measure: str, across: float, up: float) -> Scene:
    """Draw the gate with what counts for nothing: a cross of two bands, an ellipse, or a diamond."""
    scene = Scene(Box(-1.04, -1.04, 1.04, 1.04))
    if measure == "axis":
        for x, y in ((across, 1.0), (1.0, up)):
            scene.area([(-x, -y), (x, -y), (x, y), (-x, y)], "band")
        for sign in (-1.0, 1.0):
            scene.line([(sign * across, -1.0), (sign * across, 1.0)], "target", 0.25, 0.9)
            scene.line([(-1.0, sign * up), (1.0, sign * up)], "target", 0.25, 0.9)
    else:
        angle = np.linspace(0, 2 * np.pi, 60 if measure == "stick" else 5)
        outline = np.stack((across * np.cos(angle), up * np.sin(angle)), axis=1)
        scene.area(outline, "band")
        scene.line(outline, "target", 0.25, 0.9)
    scene.line([(-1, -1), (1, -1), (1, 1), (-1, 1), (-1, -1)], "frame", 0.25)
    scene.circle((0.0, 0.0), 1.0, "frame", 0.4)
    return scene


def gate_scene(data: GateData) -> Scene:
    """Draw the gate: where the stick is and where shaping puts it, with the dead band's outline."""
    below = _gate_ground(data.measure, data.dead_band_across, data.dead_band_up)
    scene = Scene(below.box, below=below)
    if len(data.raw):
        scene.line(data.raw, "dim", 0.2)
        scene.line(data.shaped, "measured", 0.35)
    for points, sign, named in ((data.raw, "○", "rest"), (data.shaped, "●", "measured")):
        if len(points):
            scene.sign(np.clip(points[-1], -1, 1), sign, named)
    return scene
