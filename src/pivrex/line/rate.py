"""The rate limit: how fast a function may change, away from zero and towards it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from pivrex.line.inputs import Inputs
from pivrex.line.layout import Layout
from pivrex.line.stage import Floats, Rung, Stage, named, some
from pivrex.line.told import Told
from pivrex.rig.rig import Rig

__all__ = ["Rate", "RateSettings", "rate_limit", "settings_of"]

NO_LIMIT = 1e9
"""A rate in 1/s that limits nothing: from -1 to 1 in 2 ns. Finite, so that no formula meets inf - inf."""


@dataclass(frozen=True)
class RateSettings:
    """The rates of C channels.

    Attributes
    ----------
    up, down : (C,) float64
        How far a value may go in one tick, away from zero and towards it; `NO_LIMIT` per second for none.
    turn : (C,) float64
        up/down: how much of what a tick has left at zero counts on the other side.
    gentle : bool
        Whether no channel grows faster than it falls: then the lowest value is the larger of two, see `rate_limit`.
    unlimited : bool
        Whether no channel has a rate limit.
    pair : (2,) int
        Two channels that go to where they are wanted on one straight line; empty if none do.
    """

    up: Floats
    down: Floats
    turn: Floats
    gentle: bool
    unlimited: bool
    pair: NDArray[np.intp]


def settings_of(rig: Rig) -> RateSettings:
    """Take the rates of the functions of a rig's law."""
    axes = list(rig.law.axes())
    each = [rig.shaping.of(role) for role in axes]
    up = np.array([s.faster_per_s or NO_LIMIT for s in each]) * rig.dt_s
    down = np.array([s.slower_per_s or NO_LIMIT for s in each]) * rig.dt_s
    pair = [axes.index("forward"), axes.index("sideways")] if rig.keeps_direction else []
    unlimited = not any(s.faster_per_s or s.slower_per_s for s in each)
    return RateSettings(up, down, up / down, bool((up <= down).all()), unlimited, np.array(pair, np.intp))


def rate_limit(settings: RateSettings, before: Floats, wanted: Floats) -> Floats:
    """Let a value change only so fast in one tick: one rate away from zero, another towards it.

    Parameters
    ----------
    settings : RateSettings
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
    lowest value is q for q ≥ 0, and q·up/down below. Of a pair the one that gets least far sets how far both go, so
    that they move along the straight line to where they are wanted. (Own derivation.)
    """
    if settings.unlimited:
        return wanted
    sign = np.copysign(1.0, before)
    p, g = before * sign, wanted * sign
    q = p - settings.down
    floor = np.maximum(q, q * settings.turn) if settings.gentle else np.where(q < 0, q * settings.turn, q)
    limited: Floats = sign * np.minimum(np.maximum(g, floor), p + settings.up)
    if settings.pair.size:
        here, there = before[..., settings.pair], wanted[..., settings.pair]
        way = there - here
        moves = way != 0
        done = np.where(moves, (limited[..., settings.pair] - here) / np.where(moves, way, 1.0), 1.0)
        share = done.min(axis=-1, keepdims=True)
        limited[..., settings.pair] = np.where(share >= 1, there, here + way * share)
    return limited


class RateState(NamedTuple):
    """The last values, B + (C,)."""

    last: Floats


class Rate(Stage):
    """The rates of the law's functions. Stopping and braking go round them, and the next motion begins from rest."""

    name = "rate"
    reads = ("clock", "scale", "bindings")

    def __init__(self, rig: Rig, functions: tuple[str, ...]) -> None:
        self.functions = functions
        self._shaping = rig.shaping
        self.settings: RateSettings = settings_of(rig)
        self.columns = named("rate", *((f, "") for f in functions))
        self.kept_while = functions

    @classmethod
    def of(cls, rig: Rig, inputs: Inputs) -> Rate:
        return cls(rig, inputs.functions)

    def place(self, layout: Layout) -> None:
        self._in, self._out = layout.stage("scale"), layout.stage("rate")
        self._stopped = layout.at("clock", "stopped")
        self._brake = layout.at("bindings", "brake") if layout.has("bindings", "brake") else -1

    def start(self, batch: tuple[int, ...]) -> RateState:
        return RateState(np.zeros((*batch, len(self.functions))))

    def step(self, state: RateState, row: Floats) -> RateState:
        rated = rate_limit(self.settings, state.last, row[..., self._in])
        halted = row[..., self._stopped]
        if self._brake >= 0:
            halted = halted + row[..., self._brake]
        if some(halted):
            rated = np.where(halted[..., None] != 0, 0.0, rated)
        row[..., self._out] = rated
        return RateState(rated.copy() if rated.base is not None else rated)

    def phrases(self, told: Told) -> list[str]:
        if not told.by_stick or abs(told("rate", told.main) - told("scale", told.main)) <= 0.005:
            return []
        return [f"rate {told.of_function('rate')[0]:.2f}"]

    def rungs(self, told: Told) -> list[Rung]:
        found = []
        for function in self.functions:
            s = self._shaping.of(function)
            before, after = told("scale", function), told("rate", function)
            stopped, braked = told("clock", "stopped"), told.get("bindings", "brake")
            limits = " and ".join(
                f"{word} {rate:g} /s" for word, rate in (("faster", s.faster_per_s), ("slower", s.slower_per_s)) if rate
            )
            note = "! stopped" if stopped else "! brake" if braked else ""
            slowed = abs(after - before) > 0.0005 and not note
            found.append(
                Rung(
                    "rate",
                    f"{function}: {before:+.3f}, {limits or 'no limit'} → {after:+.3f}",
                    f"shaping.{function}.faster",
                    "still on its way" if slowed else note if before else "",
                )
            )
        return found
