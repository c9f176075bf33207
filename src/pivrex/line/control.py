"""Control: from wanted wheel speeds to each driving motor's drive, by feedforward and a loop on the encoder."""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from pivrex.line.inputs import Inputs
from pivrex.line.layout import Layout, plain
from pivrex.line.motion import speeds_at
from pivrex.line.pid import LoopSettings, loop
from pivrex.line.stage import Floats, Rung, Stage, named, some
from pivrex.line.told import Told
from pivrex.rig.rig import Rig
from pivrex.rig.wheel_control import WheelControl

__all__ = ["Control", "ControlSettings", "ControlState", "settings_of"]

CREEPS = 0.01
"""A wheel that shall turn slower than this share of its top speed gets its share of what friction takes."""

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
    feedforward is the motor's own equation solved for its voltage. (Åström & Murray, Feedback Systems, ch. 11 and 12.)
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
        self._sensed = layout.these("sensed", [f"{w}_speed" for w in self._wheels])
        self._volts = layout.at("sensed", "battery") if self.settings.volts else -1
        self._out = [layout.these("control", [f"{m}_{part}" for m in self._motors]) for part in (*self.parts, "drive")]

    def start(self, batch: tuple[int, ...]) -> ControlState:
        none = np.zeros((*batch, len(self._motors)))
        return ControlState(none, none, none, np.full(batch, np.nan))

    def step(self, state: ControlState, row: Floats) -> ControlState:
        s = self.settings
        wanted = np.einsum("mw,...w->...m", s.share, row[..., self._speeds])
        static = s.static * wanted / np.maximum(np.abs(wanted), CREEPS)
        speed = s.speed * wanted
        rising = s.acceleration * ((wanted - state.wanted) / s.dt_s)
        drive = static + speed + rising
        parts, measured, added = [wanted, static, speed, rising], state.measured, state.added
        if s.loops:
            now = np.einsum("mw,...w->...m", s.share, row[..., self._sensed])
            measured = state.measured + (now - state.measured) * s.smooth
            error = wanted - measured
            growing = (error - (state.wanted - state.measured)) / s.dt_s
            p, i, d, given = loop(s.loop, state.added, error, growing, s.dt_s)
            parts += [measured, p, i, d]
            drive, added = drive + given, i
        drive, volts = self._compensated(state, row, drive)
        drive = np.minimum(np.maximum(drive, -1.0), 1.0)
        # what shall stand and does gets nothing: no hum from what a loop has added up
        rests = (wanted == 0) & (np.abs(measured) < CREEPS) & (state.wanted == 0)
        drive, added = np.where(rests, 0.0, drive), np.where(rests, 0.0, added)
        if some(row[..., self._stopped]):
            halted = row[..., self._stopped, None] != 0
            drive, added, wanted = (np.where(halted, 0.0, v) for v in (drive, added, wanted))
        for place, values in zip(self._out, (*parts, drive), strict=True):
            row[..., place] = values
        return ControlState(wanted, measured, added, volts)

    def _compensated(self, state: ControlState, row: Floats, drive: Floats) -> tuple[Floats, Floats]:
        """Raise drive where the battery sags; gives its averaged voltage too."""
        s = self.settings
        if self._volts < 0:
            return drive, state.volts
        now = row[..., self._volts] + 0.0
        known = state.volts == state.volts
        volts = np.where(known, state.volts + (now - state.volts) * s.smooth_volts, now)
        # a sensor that says nothing sensible changes nothing
        fair = (volts > 0.3 * s.volts) & (volts < 2 * s.volts)
        return drive * np.where(fair, s.volts / np.where(fair, volts, 1.0), 1.0)[..., None], volts

    # --- what it tells ---

    def _of(self, told: Told) -> str:
        return plain(next(n for n, m in self._rig.motors.items() if told.wheel in m.wheels))

    def phrases(self, told: Told) -> list[str]:
        motor = self._of(told)
        wanted, drive = told("control", f"{motor}_wanted"), told("control", f"{motor}_drive")
        return [f"{wanted * 100:.0f} % of top speed: drive {drive * 100:.0f} %"]

    def rungs(self, told: Told) -> list[Rung]:
        motor = self._of(told)
        parts = ", ".join(f"{p} {told('control', f'{motor}_{p}'):+.3f}" for p in self.parts[1:])
        text = f"{told('control', f'{motor}_wanted'):+.3f} of top speed: {parts} → {told('control', f'{motor}_drive'):+.3f}"
        full = abs(told("control", f"{motor}_drive")) >= 0.9995
        return [Rung("control", text, "control.wheels", "! full drive" if full else "")]
