"""Shaping: dead band, curve, scale and rate limit, from fractions to fractions."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from pivrex.rig.channels import is_one_sided, stick_of
from pivrex.rig.controls import ChannelShaping
from pivrex.rig.rig import Rig

__all__ = ["ShapingSettings", "curve", "dead_band", "rate_limit", "respond", "settings_of"]

Floats = NDArray[np.float64]

_TINY = 1e-12

NO_LIMIT = 1e9
"""A rate in 1/s that limits nothing: from -1 to 1 in 2 ns. Finite, so that no formula meets inf - inf."""


@dataclass(frozen=True)
class ShapingSettings:
    """Shaping of C channels.

    Attributes
    ----------
    measure : str
        "axis", "stick" or "sum": what the dead band measures.
    cut : bool
        The onset: True jumps to the value as it is, False starts from 0 at the edge.
    edge : (C,) float64
        Where the dead band ends; at least 1e-12.
    together : (C, C) float64
        1 where two channels belong to one stick.
    norms : (2·C, C) float64
        Sums over each channel's stick, then the same with every channel divided by its edge; squared for "stick".
    strength : (C,) float64
        Of the cubic blend, 0 to 1.
    tables : tuple of (channel, xs, ys)
        Channels that follow a table of points instead.
    scale : (C,) float64
        The channel's own scale times the overall one.
    per_rest : (C,) float64
        One over what is left beyond the edge, 1/(1 - e).
    up, down : (C,) float64
        How far a value may go in one tick, away from zero and towards it; `NO_LIMIT` per second for none.
    turn : (C,) float64
        up/down: how much of what a tick has left at zero counts on the other side.
    unlimited : bool
        Whether no channel has a rate limit.
    """

    measure: str
    cut: bool
    edge: Floats
    together: Floats
    norms: Floats
    strength: Floats
    tables: tuple[tuple[int, Floats, Floats], ...]
    scale: Floats
    per_rest: Floats
    up: Floats
    down: Floats
    turn: Floats
    unlimited: bool


def settings_of(rig: Rig) -> ShapingSettings:
    """Take the shaping of the functions of a rig's law."""
    axes = rig.law.axes()
    each = [rig.shaping.of(role) for role in axes]
    sticks = [stick_of(rig.channel(name)) for name in axes.values()]
    together = [
        [float(a == b and not is_one_sided(a)) or float(i == j) for j, b in enumerate(sticks)]
        for i, a in enumerate(sticks)
    ]
    tables = []
    for i, shaping in enumerate(each):
        if shaping.points:
            xs, ys = np.array(shaping.points, float).T
            tables.append((i, xs.copy(), ys.copy()))
    edge = np.maximum([s.edge for s in each], _TINY)
    up = np.array([s.faster_per_s or NO_LIMIT for s in each]) * rig.dt_s
    down = np.array([s.slower_per_s or NO_LIMIT for s in each]) * rig.dt_s
    return ShapingSettings(
        measure=rig.shaping.measure,
        cut=rig.shaping.onset == "cut",
        edge=edge,
        together=np.array(together),
        norms=np.concatenate((together, np.array(together) / (edge**2 if rig.shaping.measure == "stick" else edge))),
        strength=np.array([s.curve for s in each]),
        tables=tuple(tables),
        scale=np.array([s.scale * rig.shaping.overall for s in each]),
        per_rest=1 / (1 - edge),
        up=up,
        down=down,
        turn=up / down,
        unlimited=not any(s.faster_per_s or s.slower_per_s for s in each),
    )


def dead_band(settings: ShapingSettings, fractions: Floats) -> Floats:
    """Take out what lies inside the dead band.

    Parameters
    ----------
    settings : ShapingSettings
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
    the edge. Inside (m ≤ 1) the result is 0. Outside, with the onset *cut* it is f; *rescaled* it is

        f · (1 - 1/m) / (1 - N/m)

    along the ray through f: 0 at the edge, where N is N/m, and f at N = 1. For one axis this is the usual
    (|f| - e)/(1 - e), which is how it is computed then. A stick in the corner of its gate (N > 1) saturates. (Own derivation.)
    """
    if settings.measure == "axis":
        size = np.abs(fractions)
        if settings.cut:
            return np.where(size > settings.edge, fractions, 0.0)
        return np.copysign(np.maximum(size - settings.edge, 0.0) * settings.per_rest, fractions)
    count = fractions.shape[-1]
    if settings.measure == "stick":
        norms = np.sqrt(np.einsum("ij,...j->...i", settings.norms, fractions * fractions))
    else:
        norms = np.einsum("ij,...j->...i", settings.norms, np.abs(fractions))
    size, m = norms[..., :count], norms[..., count:]
    outside = m > 1.0
    if settings.cut:
        return np.where(outside, fractions, 0.0)
    m = np.maximum(m, 1.0)
    # the formula with m multiplied out; m - N is m·(1 - edge along the ray), which a corner can bring near 0: hence the floor
    gain = (m - 1.0) / np.maximum(m - size, 0.05 * m)
    return np.maximum(np.minimum(fractions * gain, 1.0), -1.0)


def curve(settings: ShapingSettings, fractions: Floats) -> Floats:
    """Bend the response, oddly symmetric.

    Parameters
    ----------
    settings : ShapingSettings
    fractions : B + (C,) float64
        In [-1, 1].

    Returns
    -------
    B + (C,) float64
        In [-1, 1].

    Notes
    -----
    The cubic blend is y = (1 - k)·x + k·x³; it keeps 0 and ±1 and never falls for 0 ≤ k ≤ 1. A table is joined by
    straight lines and mirrored through the origin.
    """
    k = settings.strength
    bent: Floats = fractions * ((1.0 - k) + k * (fractions * fractions))
    for channel, xs, ys in settings.tables:
        x = fractions[..., channel]
        bent[..., channel] = np.copysign(np.interp(np.abs(x), xs, ys), x)
    return bent


def rate_limit(settings: ShapingSettings, before: Floats, wanted: Floats) -> Floats:
    """Let a value change only so fast in one tick: one rate away from zero, another towards it.

    Parameters
    ----------
    settings : ShapingSettings
    before : B + (C,) float64
        The value a tick ago.
    wanted : B + (C,) float64

    Returns
    -------
    B + (C,) float64

    Notes
    -----
    In the frame where ``before`` is not negative, p = |before| and g = wanted·sign(before). Away from zero p grows
    by ``up`` at most. Towards zero it falls by ``down`` at most; if that leads beyond zero, the share of the tick
    that is left there, 1 - p/down, counts at the other rate, so there is no pause at zero: with q = p - down the
    lowest value is q for q ≥ 0, and q·up/down below. (Own derivation.)
    """
    if settings.unlimited:
        return wanted
    sign = np.copysign(1.0, before)
    p, g = before * sign, wanted * sign
    q = p - settings.down
    floor = np.maximum(q, 0.0) + np.minimum(q, 0.0) * settings.turn
    limited: Floats = sign * np.minimum(np.maximum(g, floor), p + settings.up)
    return limited


def respond(settings: ShapingSettings, fractions: Floats) -> Floats:
    """Give what a stick held at ``fractions`` ends at: band, curve and scale, without rates. Shapes as in `curve`."""
    return curve(settings, dead_band(settings, fractions)) * settings.scale


def describe_curve(shaping: ChannelShaping) -> str:
    """Say a channel's curve in a few words."""
    return f"table of {len(shaping.points)} points" if shaping.points else f"cubic {shaping.curve * 100:.0f} %"
