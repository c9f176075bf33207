"""Zeroing: what the gyro says while the robot stands is its bias; from then on it is taken off."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from pivrex.line.inputs import Inputs
from pivrex.line.layout import Layout, plain
from pivrex.line.stage import Floats, Rung, Stage, named, some
from pivrex.line.told import Told
from pivrex.line.values import Ops, Value, joined, ops_of, parts, single, whole
from pivrex.rig.rig import Rig

__all__ = ["DONE", "MEASURES", "MOVED", "WAITS", "Zeroing", "ZeroingSettings", "ZeroingState"]

NEVER_ASKED, WAITS, MEASURES, DONE, MOVED = range(5)
"""What the Tick says of it. WAITS: asked for, but the gyro says nothing yet or the robot does not stand. MOVED: it moved
while the bias was measured; it begins again once it stands.
"""

STANDS_M_S = 0.004
STILL_RAD_S = 0.1
"""A wheel that rolls faster, or a reading this far from the mean of those before, and the robot does not stand still."""

SURE = 12
"""After so many readings their mean says something."""


@dataclass(frozen=True)
class ZeroingSettings:
    """``ticks`` at rest that are measured, and a tick's length in s."""

    ticks: float
    dt_s: float


class ZeroingState(NamedTuple):
    """What is remembered, B each.

    Attributes
    ----------
    status : float64
        What the Tick says.
    readings, first, second : float64
        How many at rest by now, their sum in rad/s and that of their squares.
    gyro : float64
        What the gyro said last, rad; NaN before.
    taken : float64
        What is taken off the gyro's heading, rad.
    bias, noise : float64
        Measured last, rad/s.
    """

    status: Floats
    readings: Floats
    first: Floats
    second: Floats
    gyro: Floats
    taken: Floats
    bias: Floats
    noise: Floats


class Zeroing(Stage):
    """For rigs with a gyro and a correction: the gyro's heading without the bias that was measured."""

    name = "zeroing"
    reads: tuple[str, ...] = ("sensed",)

    def __init__(self, rig: Rig) -> None:
        assert rig.gyro is not None
        self.settings: ZeroingSettings = ZeroingSettings(
            ticks=max(2.0, round(rig.gyro.zero_for_s * rig.rate_hz)), dt_s=rig.dt_s
        )
        self._wheels = [plain(w.name) for w in rig.chassis.wheels]
        self.columns = named(
            "zeroing", ("gyro", "rad"), ("status", ""), ("readings", ""), ("bias", "rad/s"), ("noise", "rad/s")
        )

    @classmethod
    def of(cls, rig: Rig, inputs: Inputs) -> Zeroing | None:
        return cls(rig) if rig.gyro is not None and rig.correction is not None else None

    def place(self, layout: Layout) -> None:
        self._gyro = layout.at("sensed", "gyro")
        self._speeds = layout.these("sensed", [f"{w}_speed" for w in self._wheels])
        self._out = layout.stage("zeroing")

    def start(self, batch: tuple[int, ...]) -> ZeroingState:
        none = np.zeros(batch)
        return ZeroingState(none, none, none, none, np.full(batch, np.nan), none, none, none)

    def ask(self, state: ZeroingState) -> ZeroingState:
        """Give the state in which the bias is measured as soon as the robot stands and the gyro speaks."""
        none = np.zeros_like(state.status)
        return state._replace(status=none + WAITS, readings=none, first=none, second=none)

    def step(self, state: ZeroingState, row: Floats) -> ZeroingState:
        batch = row.shape[:-1]
        o = ops_of(batch)
        was = ZeroingState(*(single(v) for v in state))
        gyro = single(row[..., self._gyro] + 0.0)
        asked = (was.status == WAITS) | (was.status == MEASURES) | (was.status == MOVED)
        after = was
        known = (gyro == gyro) & (was.gyro == was.gyro)  # noqa: PLR0124 - NaN is not itself
        if o.some(asked):
            after = self._measured(o, was, gyro, known, parts(row[..., self._speeds]), asked)
        taken = o.where(known, after.taken + after.bias * self.settings.dt_s, after.taken)
        after = after._replace(taken=taken, gyro=gyro)
        row[..., self._out] = joined((gyro - taken, after.status, after.readings, after.bias, after.noise), batch)
        return ZeroingState(*(whole(v, batch) for v in after))

    def run(self, state: ZeroingState, rows: Floats, counts: Sequence[bool]) -> ZeroingState:
        if state.bias != 0 or state.status in (WAITS, MEASURES, MOVED):
            return super().run(state, rows, counts)
        gyro = rows[:, self._gyro] + 0.0
        told = (gyro - state.taken, state.status, state.readings, state.bias, state.noise)
        rows[:, self._out] = joined(told, (len(rows),))
        _, last = self.before(counts)
        return state if last < 0 else state._replace(gyro=np.asarray(gyro[last]))

    def _measured(
        self, o: Ops, was: ZeroingState, gyro: Value, known: Value, speeds: list[Value], asked: Value
    ) -> ZeroingState:
        """Take in a reading of a robot that shall stand."""
        s = self.settings
        rate = o.where(known, (gyro - was.gyro) / s.dt_s, 0.0)
        mean = was.first / o.most(was.readings, 1.0)
        fastest = abs(speeds[0])
        for speed in speeds[1:]:
            fastest = o.most(fastest, abs(speed))
        shaken = (was.readings >= SURE) & (abs(rate - mean) > STILL_RAD_S)
        stands = known & (fastest < STANDS_M_S) & o.no(shaken)
        broke = asked & o.no(stands) & (was.readings > 0)
        goes_on = asked & stands
        count = o.where(goes_on, was.readings + 1.0, o.where(asked, 0.0, was.readings))
        first = o.where(goes_on, was.first + rate, o.where(asked, 0.0, was.first))
        second = o.where(goes_on, was.second + rate * rate, o.where(asked, 0.0, was.second))
        done = goes_on & (count >= s.ticks)
        bias = first / o.most(count, 1.0)
        spread = o.sqrt(o.most(second / o.most(count, 1.0) - bias * bias, 0.0))
        waiting = o.where(broke, float(MOVED), o.where(was.status == MOVED, float(MOVED), float(WAITS)))
        status = o.where(done, float(DONE), o.where(goes_on, float(MEASURES), o.where(asked, waiting, was.status)))
        return was._replace(
            status=status, readings=count, first=first, second=second,
            bias=o.where(done, bias, was.bias), noise=o.where(done, spread, was.noise),
        )  # fmt: skip

    def rungs(self, told: Told) -> list[Rung]:
        if not some(np.asarray(told("zeroing", "status"))):
            return []
        bias, noise = (float(np.degrees(told("zeroing", n))) for n in ("bias", "noise"))
        words = {
            WAITS: "waits until it stands",
            MEASURES: "measures",
            DONE: "done",
            MOVED: "! it moved; waits until it stands",
        }
        status = words[int(told("zeroing", "status"))]
        return [
            Rung("zero", f"gyro bias {bias:+.3f} deg/s taken off, noise {noise:.3f} deg/s ({status})", "gyro.zero_for")
        ]
