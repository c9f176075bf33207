"""Control: from commanded wheel speeds to each motor's drive, by feedforward and a loop with the encoder."""

from __future__ import annotations

from types import MappingProxyType

import numpy as np

from pivrex.kernels.maths import clamp, div, is_nan, larger, nan
from pivrex.kernels.records import Flag, Form, Number, Numbers, Record, Whole, field, part
from pivrex.kernels.subset import kernel
from pivrex.line.bindings import BindingsColumns, column_of
from pivrex.line.input_stages import ClockColumns, SensedRow
from pivrex.line.inputs import Inputs
from pivrex.line.law import LawColumns, are_halted
from pivrex.line.layout import plain
from pivrex.line.motion import row_sum
from pivrex.line.pid import LoopSettings, loop
from pivrex.line.stage import Rung, Stage, named
from pivrex.line.wheel_tick import WheelTick
from pivrex.rig.rig import Rig
from pivrex.rig.wheel_control import WheelControl

__all__ = ["Control", "ControlColumns", "ControlSettings", "ControlState", "control_step"]

CREEPS = 0.01
"""A wheel that should turn slower than this share of its top speed gets its share of what friction takes."""

FADES = 0.7
"""What is left in a tick of the part of I while a wheel should stand."""

SMOOTH_V_S = 0.2
"""Over so long the battery's voltage is averaged before drive is raised for it."""


class ControlSettings(Record):
    """D driving motors of W wheels.

    Attributes
    ----------
    share : (D, W)
        Each motor's share of top speed from its wheels' surface speeds in m/s: the mean of speed/top.
    static, speed, acceleration : (D,)
        Drive for friction, for top speed, and for top speed per second.
    loop : LoopSettings
        From shares of top speed that are missing to drive; all 0 without a loop.
    loops : flag
    smooth : float
        How much of a newly measured speed counts.
    volts : float
        The nominal voltage; 0 where drive is not raised for a battery that sags.
    smooth_volts : float
        How much of a newly measured voltage counts.
    dt : float
    brake, coast : int
        The columns of the bindings, -1 for none.
    """

    is_settings = True

    share: Numbers = field("motors", "wheels", unit="s/m")
    static: Numbers = field("motors")
    speed: Numbers = field("motors")
    acceleration: Numbers = field("motors", unit="s")
    loop: LoopSettings = part()
    loops: Flag = field()
    smooth: Number = field()
    volts: Number = field(unit="V")
    smooth_volts: Number = field()
    dt: Number = field(unit="s")
    brake: Whole = field()
    coast: Whole = field()


class ControlState(Record):
    """The memory of wheel control: the last commanded and measured shares, B + (D,), the latter averaged; the I term, B + (D,); and the
    averaged battery voltage, B, NaN before the first.
    """

    setpoint: Numbers = field("motors")
    measured: Numbers = field("motors")
    added: Numbers = field("motors")
    volts: Number = field(unit="V")


class ControlColumns(Record):
    """The parts of each motor's drive, those of a loop only where there is one, and the drive."""

    setpoint: Numbers = field("motors")
    static: Numbers = field("motors")
    speed: Numbers = field("motors")
    acceleration: Numbers = field("motors")
    measured: Numbers = field("looped")
    p: Numbers = field("looped")
    i: Numbers = field("looped")
    d: Numbers = field("looped")
    drive: Numbers = field("motors")


@kernel
def raised(s: ControlSettings, before: ControlState, after: ControlState, sensed: SensedRow) -> float:
    """Return the factor that compensates for the battery's sag; an impossible reading changes nothing."""
    after.volts = before.volts
    if s.volts == 0.0:
        return 1.0
    now = sensed.battery[0]
    after.volts = now if is_nan(before.volts) else before.volts + (now - before.volts) * s.smooth_volts
    if after.volts > 0.3 * s.volts and after.volts < 2.0 * s.volts:
        return div(s.volts, after.volts)
    return 1.0


@kernel
def control_motor(
    s: ControlSettings, k: int, before: ControlState, after: ControlState, speeds: Numbers, sensed: SensedRow, more: float, stopped: bool,
    out: ControlColumns,
) -> None:  # fmt: skip
    """Find the drive of motor k.

    Notes
    -----
    With v the wanted share of top speed and e what of it is missing by the encoder:
    drive = static·sgn v + speed·v + acceleration·dv/dt + p·e + i·∫e + d·de/dt, times nominal over sensed voltage. The
    feedforward is the motor's own equation solved for its voltage. While the robot is stopped, brakes or coasts there is no
    loop and no drive, and nothing is remembered of the loop. (Åström & Murray, Feedback Systems, ch. 11 and 12.)
    """
    wheels = len(s.share[k])
    wanted = row_sum(s.share[k], speeds, wheels)
    out.setpoint[k] = wanted
    out.static[k] = s.static[k] * div(wanted, larger(abs(wanted), CREEPS))
    out.speed[k] = s.speed[k] * wanted
    out.acceleration[k] = s.acceleration[k] * div(wanted - before.setpoint[k], s.dt)
    drive = out.static[k] + out.speed[k] + out.acceleration[k]
    measured, added = before.measured[k], before.added[k]
    if s.loops:
        measured += (row_sum(s.share[k], sensed.speed, wheels) - measured) * s.smooth
        error = wanted - measured
        growing = div(error - (before.setpoint[k] - before.measured[k]), s.dt)
        # what held a speed against friction is no use to one that must stand
        kept = added * FADES if wanted == 0.0 else added
        p, i, d, output = loop(s.loop, kept, error, growing, s.dt)
        out.measured[k], out.p[k], out.i[k], out.d[k] = measured, p, i, d
        drive, added = drive + output, i
    drive = clamp(drive * more, -1.0, 1.0)
    # a motor that must stand still, and does, gets no drive: the integral of a loop would only make it hum
    if stopped or (wanted == 0.0 and abs(measured) < CREEPS and before.setpoint[k] == 0.0):
        drive, added = 0.0, 0.0
    out.drive[k] = drive
    after.setpoint[k], after.measured[k], after.added[k] = 0.0 if stopped else wanted, measured, added


@kernel
def control_step(
    s: ControlSettings, before: ControlState, after: ControlState, clock: ClockColumns, bindings: BindingsColumns, law: LawColumns,
    speeds: Numbers, sensed: SensedRow, out: ControlColumns,
) -> None:  # fmt: skip
    """Find each driving motor's drive from the wheels' speeds, before its polarity."""
    stopped = clock.stopped or are_halted(bindings, s.brake, s.coast, law.entered)
    more = raised(s, before, after, sensed)
    for k in range(len(out.drive)):
        control_motor(s, k, before, after, speeds, sensed, more, stopped, out)


def settings_of(rig: Rig, table: WheelControl, inputs: Inputs) -> ControlSettings:
    """Return the control of a rig."""
    wheels = [w.name for w in rig.chassis.wheels]
    share = np.zeros((len(rig.motors), len(wheels)))
    for m, motor in enumerate(rig.motors.values()):
        for wheel in motor.wheels:
            share[m, wheels.index(wheel)] = 1 / len(motor.wheels) / rig.wheel_top_m_s(wheel)
    static = np.array([m.smallest if table.static is None else table.static for m in rig.motors.values()])
    speed = 1 - static if table.speed is None else np.full_like(static, table.speed)
    loops = table.wheels == "pid"
    acceleration = rig.lag_s if table.acceleration_s is None else table.acceleration_s
    gains = Form(LoopSettings)
    made: ControlSettings = Form(ControlSettings, motors=len(rig.motors), wheels=len(wheels), loop=gains).of(
        share=share,
        static=static,
        speed=speed,
        acceleration=acceleration,
        loop=gains.of(
            p=table.p * loops, i=table.i * loops, d=table.d * loops, clamp=table.i_limit, memory=1.0, largest=1.0
        ),
        loops=loops,
        smooth=rig.dt_s / (rig.dt_s + table.speed_filter_s),
        volts=rig.battery.volts if rig.battery.sensed and table.compensate == "on" else 0.0,
        smooth_volts=rig.dt_s / (rig.dt_s + SMOOTH_V_S),
        dt=rig.dt_s,
        brake=column_of(rig, inputs, "brake"),
        coast=column_of(rig, inputs, "coast"),
    )
    return made


class Control(Stage):
    """For rigs whose table ``[control]`` says feedforward or pid: the drive of each driving motor, before its polarity."""

    name = "control"
    begins = MappingProxyType({"volts": nan})

    def __init__(self, rig: Rig, table: WheelControl, inputs: Inputs) -> None:
        self.settings: ControlSettings = settings_of(rig, table, inputs)
        self._rig, self._kind = rig, table.wheels
        self._motors = [plain(m) for m in rig.motors]
        self.parts: tuple[str, ...] = ("setpoint", "static", "speed", "acceleration")
        if self.settings.loops:
            self.parts += ("measured", "p", "i", "d")
        columns = [(f"{m}_{part}", "") for part in (*self.parts, "drive") for m in self._motors]
        self.columns = named("control", *columns)
        self.kept_while = (tuple(self._motors), bool(self.settings.loops))
        motors = len(self._motors)
        self.form = Form(ControlColumns, motors=motors, looped=motors if self.settings.loops else 0)
        self.memory = Form(ControlState, motors=motors)

    @classmethod
    def of(cls, rig: Rig, inputs: Inputs) -> Control | None:
        table = rig.control
        return cls(rig, table, inputs) if table is not None and table.wheels != "open" else None

    # --- explanation ---

    def _of(self, tick: WheelTick) -> str:
        return plain(next(n for n, m in self._rig.motors.items() if tick.wheel in m.wheels))

    def phrases(self, tick: WheelTick) -> list[str]:
        motor = self._of(tick)
        wanted, drive = tick("control", f"{motor}_setpoint"), tick("control", f"{motor}_drive")
        return [f"{round(wanted * 100)} % of top speed: drive {round(drive * 100)} %"]

    def rungs(self, tick: WheelTick) -> list[Rung]:
        motor = self._of(tick)
        parts = ", ".join(f"{p} {tick('control', f'{motor}_{p}'):+.3f}" for p in self.parts[1:])
        text = f"{tick('control', f'{motor}_setpoint'):+.3f} of top speed: {parts} → {tick('control', f'{motor}_drive'):+.3f}"
        full = abs(tick("control", f"{motor}_drive")) >= 0.9995
        return [Rung("control", text, "control.wheels", "! full drive" if full else "")]
