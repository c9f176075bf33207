"""Control: from wanted wheel speeds to each driving motor's drive, by feedforward and a loop on the encoder."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from pivrex.line.inputs import Inputs
from pivrex.line.law import halts
from pivrex.line.layout import Layout, plain
from pivrex.line.motion import speeds_at
from pivrex.line.pid import LoopSettings, loop
from pivrex.line.stage import Floats, Rung, Stage, named
from pivrex.line.told import Told
from pivrex.line.values import MANY, Ops, Value, joined, ops_of, parts, single, whole
from pivrex.rig.rig import Rig
from pivrex.rig.wheel_control import WheelControl

__all__ = ["Control", "ControlSettings", "ControlState", "settings_of"]

CREEPS = 0.01
"""A wheel that shall turn slower than this share of its top speed gets its share of what friction takes."""

FADES = 0.7
"""What is left in a tick of the part of I while a wheel shall stand."""

SMOOTH_V_S = 0.2
"""Over so long the battery's voltage is averaged before drive is raised for it."""


@dataclass(frozen=True)
class ControlSettings:
    """D driving motors of W wheels.

    Attributes
    ----------
    share : (D, W) float64
        Each motor's share of top speed from its wheels' surface speeds in m/s: the mean of speed/top.
    static, speed, acceleration : (D,) float64
        Drive for friction, for top speed, and for top speed per second.
    loop : LoopSettings
        From shares of top speed that are missing to drive; all 0 without a loop.
    loops : bool
    smooth : float
        How much of a newly measured speed counts.
    volts : float
        The nominal voltage; 0 where drive is not raised for a battery that sags.
    smooth_volts, dt_s : float
    """

    share: Floats
    static: Floats
    speed: Floats
    acceleration: Floats
    loop: LoopSettings
    loops: bool
    smooth: float
    volts: float
    smooth_volts: float
    dt_s: float


class ControlState(NamedTuple):
    """What is remembered: the shares wanted and measured last, B + (D,), the latter averaged; the part of I, B + (D,); and
    the battery's voltage, averaged, B, NaN before the first.
    """

    wanted: Floats
    measured: Floats
    added: Floats
    volts: Floats


def settings_of(rig: Rig, table: WheelControl) -> ControlSettings:
    """Take the control from a rig."""
    wheels = [w.name for w in rig.chassis.wheels]
    share = np.zeros((len(rig.motors), len(wheels)))
    for m, motor in enumerate(rig.motors.values()):
        for wheel in motor.wheels:
            share[m, wheels.index(wheel)] = 1 / len(motor.wheels) / rig.wheel_top_m_s(wheel)
    static = np.array([m.smallest if table.static is None else table.static for m in rig.motors.values()])
    speed = 1 - static if table.speed is None else np.full_like(static, table.speed)
    loops = table.wheels == "pid"
    acceleration = rig.lag_s if table.acceleration_s is None else table.acceleration_s
    return ControlSettings(
        share=share,
        static=static,
        speed=speed,
        acceleration=np.full_like(static, acceleration),
        loop=LoopSettings(
            p=table.p * loops, i=table.i * loops, d=table.d * loops, clamp=table.clamp, memory=1.0, largest=1.0
        ),
        loops=loops,
        smooth=rig.dt_s / (rig.dt_s + table.filter_s),
        volts=rig.battery.volts if rig.battery.sensed and table.compensate == "on" else 0.0,
        smooth_volts=rig.dt_s / (rig.dt_s + SMOOTH_V_S),
        dt_s=rig.dt_s,
    )


class Control(Stage):
    """For rigs whose table ``[control]`` says feedforward or pid: the drive of each driving motor, before its polarity.

    Notes
    -----
    With v the wanted share of top speed and e what of it is missing by the encoder:
    drive = static·sgn v + speed·v + acceleration·dv/dt + p·e + i·∫e + d·de/dt, times nominal over sensed voltage. The
    feedforward is the motor's own equation solved for its voltage. While the robot is stopped, brakes or coasts there is no
    loop and no drive, and nothing is remembered of the loop. (Åström & Murray, Feedback Systems, ch. 11 and 12.)
    """

    name = "control"

    def __init__(self, rig: Rig, table: WheelControl) -> None:
        self.settings: ControlSettings = settings_of(rig, table)
        self._rig, self._kind = rig, table.wheels
        self._wheels = [plain(w.name) for w in rig.chassis.wheels]
        self._motors = [plain(m) for m in rig.motors]
        self.parts: tuple[str, ...] = ("wanted", "static", "speed", "acceleration")
        if self.settings.loops:
            self.parts += ("measured", "p", "i", "d")
        columns = [(f"{m}_{part}", "") for part in (*self.parts, "drive") for m in self._motors]
        self.columns = named("control", *columns)
        self.reads = (
            "clock",
            "bindings",
            "law",
            "limits",
            "steering",
            *(["sensed"] if self.settings.loops or self.settings.volts else []),
        )
        self.kept_while = (tuple(self._motors), self.settings.loops)

    @classmethod
    def of(cls, rig: Rig, inputs: Inputs) -> Control | None:
        table = rig.control
        return cls(rig, table) if table is not None and table.wheels != "open" else None

    def place(self, layout: Layout) -> None:
        self._speeds, self._stopped = speeds_at(layout, self._wheels), layout.at("clock", "stopped")
        self._halts = halts(layout)
        self._sensed = layout.these("sensed", [f"{w}_speed" for w in self._wheels])
        self._volts = layout.at("sensed", "battery") if self.settings.volts else -1
        self._out = layout.stage("control")
        s = self.settings
        self._shares = [[(int(w), float(each[w])) for w in np.flatnonzero(each)] for each in s.share]
        self._needs = list(zip(s.static.tolist(), s.speed.tolist(), s.acceleration.tolist(), strict=True))

    def leave_open(self, on: bool) -> None:
        """Reckon nothing in but the share of top speed, or all again: to compare."""
        s = self.settings
        static, speed, rise = (
            (s.static, s.speed, s.acceleration) if not on else (0 * s.static, 0 * s.speed + 1, 0 * s.static)
        )
        self._needs = list(zip(static.tolist(), speed.tolist(), rise.tolist(), strict=True))

    def start(self, batch: tuple[int, ...]) -> ControlState:
        none = np.zeros((*batch, len(self._motors)))
        return ControlState(none, none, none, np.full(batch, np.nan))

    def step(self, state: ControlState, row: Floats) -> ControlState:
        s = self.settings
        batch = row.shape[:-1]
        o = ops_of(batch)
        speeds = parts(row[..., self._speeds])
        seen = parts(row[..., self._sensed]) if s.loops else speeds
        before = tuple(parts(v) for v in state[:3])
        stopped = single(row[..., self._stopped] + (self._halts(row) if self._halts is not None else 0.0))
        raised, volts = self._raised(o, state, row)
        told = [
            self._motor(o, k, (speeds, seen), (before[0][k], before[1][k], before[2][k]), raised, stopped)
            for k in range(len(self._motors))
        ]
        row[..., self._out] = joined([v for part in zip(*(t[0] for t in told), strict=True) for v in part], batch)
        wanted, measured, added = (joined(values, batch) for values in zip(*(t[1] for t in told), strict=True))
        return ControlState(wanted, measured, added, volts)

    def run(self, state: ControlState, rows: Floats, counts: Sequence[bool]) -> ControlState:
        s = self.settings
        if (
            s.loops
            or s.volts
            or np.any(rows[:, self._stopped])
            or (self._halts is not None and np.any(self._halts(rows)))
        ):
            return super().run(state, rows, counts)
        before, last = self.before(counts)
        speeds, batch = parts(rows[:, self._speeds]), (len(rows),)
        told, after = [], []
        for k in range(len(self._motors)):
            wanted = _sum(speeds, self._shares[k])
            earlier = np.where(before >= 0, wanted[before], state.wanted[k])
            found, _ = self._motor(MANY, k, (speeds, speeds), (earlier, 0.0, 0.0), 1.0, np.zeros(batch))
            told.append(found)
            after.append(wanted[last] if last >= 0 else state.wanted[k])
        rows[:, self._out] = joined([v for part in zip(*told, strict=True) for v in part], batch)
        return state._replace(wanted=np.array(after))

    def _motor(
        self,
        o: Ops,
        k: int,
        speeds: tuple[list[Value], list[Value]],
        before: tuple[Value, ...],
        raised: Value,
        stopped: Value,
    ) -> tuple[list[Value], tuple[Value, Value, Value]]:
        """Give what is told of a motor, and what it remembers: wanted, measured, the part of I."""
        s = self.settings
        wanted = _sum(speeds[0], self._shares[k])
        friction, top, rise = self._needs[k]
        static = friction * wanted / o.most(abs(wanted), CREEPS)
        speed, rising = top * wanted, rise * ((wanted - before[0]) / s.dt_s)
        drive = static + speed + rising
        told, measured, added = [wanted, static, speed, rising], before[1], before[2]
        if s.loops:
            measured = before[1] + (_sum(speeds[1], self._shares[k]) - before[1]) * s.smooth
            error = wanted - measured
            growing = (error - (before[0] - before[1])) / s.dt_s
            # what held a speed against friction is no use to one that shall stand
            kept = before[2] * o.where(wanted == 0, FADES, 1.0)
            p, i, d, given = loop(o, s.loop, kept, error, growing, s.dt_s)
            told += [measured, p, i, d]
            drive, added = drive + given, i
        drive = o.within(drive * raised, 1.0)
        # what shall stand and does gets nothing: no hum from what a loop has added up
        rests = ((wanted == 0) & (abs(measured) < CREEPS) & (before[0] == 0)) | (stopped != 0)
        drive, added = o.where(rests, 0.0, drive), o.where(rests, 0.0, added)
        return [*told, drive], (o.where(stopped != 0, 0.0, wanted), measured, added)

    def _raised(self, o: Ops, state: ControlState, row: Floats) -> tuple[Value, Floats]:
        """Give by how much drive is raised for a battery that sags, and its averaged voltage."""
        s = self.settings
        if self._volts < 0:
            return 1.0, state.volts
        now, before = single(row[..., self._volts] + 0.0), single(state.volts)
        volts = o.where(before == before, before + (now - before) * s.smooth_volts, now)  # noqa: PLR0124 - NaN is not itself
        # a sensor that says nothing sensible changes nothing
        fair = (volts > 0.3 * s.volts) & (volts < 2 * s.volts)
        return s.volts / o.where(fair, volts, s.volts), whole(volts, row.shape[:-1])

    # --- what it tells ---

    def _of(self, told: Told) -> str:
        return plain(next(n for n, m in self._rig.motors.items() if told.wheel in m.wheels))

    def phrases(self, told: Told) -> list[str]:
        motor = self._of(told)
        wanted, drive = told("control", f"{motor}_wanted"), told("control", f"{motor}_drive")
        return [f"{round(wanted * 100)} % of top speed: drive {round(drive * 100)} %"]

    def rungs(self, told: Told) -> list[Rung]:
        motor = self._of(told)
        parts = ", ".join(f"{p} {told('control', f'{motor}_{p}'):+.3f}" for p in self.parts[1:])
        text = f"{told('control', f'{motor}_wanted'):+.3f} of top speed: {parts} → {told('control', f'{motor}_drive'):+.3f}"
        full = abs(told("control", f"{motor}_drive")) >= 0.9995
        return [Rung("control", text, "control.wheels", "! full drive" if full else "")]


def _sum(values: list[Value], shares: list[tuple[int, float]]) -> Value:
    first, *others = shares
    found = values[first[0]] * first[1]
    for w, share in others:
        found = found + values[w] * share
    return found
