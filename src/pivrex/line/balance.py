"""Balance: keeps a robot on one axle upright. A place or a speed sets a lean, the lean a rate, the rate the drive."""

from __future__ import annotations

from math import degrees, radians
from types import MappingProxyType

import numpy as np

from pivrex.kernels.maths import clamp, div, is_nan, nan
from pivrex.kernels.records import Form, Number, Numbers, Record, field, part
from pivrex.kernels.subset import kernel
from pivrex.line.input_stages import SensedRow
from pivrex.line.inputs import Inputs
from pivrex.line.layout import plain
from pivrex.line.motion import row_sum
from pivrex.line.pid import LoopSettings, loop
from pivrex.line.stage import Rung, Stage, named
from pivrex.line.tilt import TiltColumns
from pivrex.line.wheel_tick import WheelTick
from pivrex.rig.balance import Balance as Table
from pivrex.rig.rig import Rig

__all__ = [
    "EMPTY",
    "FALLEN",
    "STANDS",
    "STATES",
    "UNTRUSTED",
    "WAITS",
    "Balance",
    "BalanceColumns",
    "BalanceSettings",
    "BalanceState",
    "balance_step",
]

WAITS, STANDS, FALLEN, UNTRUSTED, EMPTY = 0.0, 1.0, 2.0, 3.0, 4.0
"""What a robot that balances does: it waits until it is held upright and still, or it stands; else why its drive is off."""

STATES = {
    WAITS: "waits to be set up and held still",
    STANDS: "stands",
    FALLEN: "fell: its drive is off until it is set up and held still",
    UNTRUSTED: "its tilt sensor is wrong: its drive is off",
    EMPTY: "its battery is empty: its drive is off",
}

STILL_RAD_S = 0.2
"""A robot that is held turns no faster than this, once the filter knows its bias."""

ARRIVES_M_S = 0.05
"""Once the driver has let go, the place is held as soon as the robot is slower than this."""

ASKS_M_S, NONE = 1e-6, 1e-9
EMPTY_S = 0.5

NAMES = ("place", "speed", "lean", "rate")
PARTS = ("setpoint", "measured", "p", "i", "output")


class BalanceSettings(Record):
    """D driving motors of W wheels.

    Attributes
    ----------
    share : (D, W)
        Each motor's share of top speed from its wheels' surface speeds in m/s.
    top : float
        The speed of the robot at full drive, in m/s.
    radius : float
        Of the wheels, in m.
    place, speed, lean, rate, turn : LoopSettings
        From m to m/s, from m/s to rad, from rad to rad/s, from rad/s to drive, from shares of top speed to drive.
    back_emf : float
        The drive for each share of top speed that a motor turns with.
    static : float
        The drive that friction takes.
    smooth : float
        How much of a newly measured speed counts.
    reach, falls_at, upright, held_for : float
        In m, rad, rad, s.
    least : float
        The voltage below which the battery is empty; 0 where it is not measured.
    dt : float
    """

    is_settings = True

    share: Numbers = field("motors", "wheels", unit="s/m")
    top: Number = field(unit="m/s")
    radius: Number = field(unit="m")
    place: LoopSettings = part()
    speed: LoopSettings = part()
    lean: LoopSettings = part()
    rate: LoopSettings = part()
    turn: LoopSettings = part()
    back_emf: Number = field()
    static: Number = field()
    smooth: Number = field()
    reach: Number = field(unit="m")
    falls_at: Number = field(unit="rad")
    upright: Number = field(unit="rad")
    held_for: Number = field(unit="s")
    least: Number = field(unit="V")
    dt: Number = field(unit="s")


class BalanceState(Record):
    """The memory of the balance.

    Attributes
    ----------
    state : float
        What the robot does; see `WAITS`.
    still, empty : float
        For how long it has been held upright and still, and its battery has been empty, in s.
    travel : float
        How far both sides have rolled since the first tick, the lean taken out, in m; NaN before that.
    tilted : float
        The lean in the tick before, in rad.
    forward : float
        Its speed, averaged, in m/s.
    turning : (D,)
        By how much each motor turns faster than all on average, averaged, in shares of top speed.
    at : (W,)
        How far each wheel had rolled, in m.
    setpoint : float
        The place that it holds, in m of ``travel``.
    holds : float
        1 while it holds a place, 0 while it is driven.
    added, turned : (4,), (D,)
        The part of I of each loop, and of the one that turns.
    """

    state: Number = field()
    still: Number = field(unit="s")
    empty: Number = field(unit="s")
    travel: Number = field(unit="m")
    tilted: Number = field(unit="rad")
    forward: Number = field(unit="m/s")
    turning: Numbers = field("motors")
    at: Numbers = field("wheels", unit="m")
    setpoint: Number = field(unit="m")
    holds: Number = field()
    added: Numbers = field(4)
    turned: Numbers = field("motors")


class BalanceColumns(Record):
    """The state of the robot; for each loop (place, speed, lean and rate) the setpoint, the measured value, the P and I terms and the
    output; and each motor's drive for balance and for turning.
    """

    state: Number = field()
    setpoint: Numbers = field(4)
    measured: Numbers = field(4)
    p: Numbers = field(4)
    i: Numbers = field(4)
    output: Numbers = field(4)
    upright: Number = field()
    turn: Numbers = field("motors")
    drive: Numbers = field("motors")


@kernel
def state_after(
    s: BalanceSettings, before: BalanceState, after: BalanceState, sensed: SensedRow, tilt: TiltColumns
) -> float:
    """Return what the robot does now. Only a fall, a tilt sensor that lies and an empty battery take the drive off, and then it stays
    off until the robot has been held upright and still.
    """
    after.empty = 0.0
    if s.least > 0.0 and sensed.battery[0] < s.least:
        after.empty = before.empty + s.dt
    still = abs(tilt.lean) < s.upright and abs(tilt.rate) < STILL_RAD_S and tilt.fault == 0.0 and after.empty == 0.0
    after.still = before.still + s.dt if still and before.state != STANDS else 0.0
    if tilt.fault != 0.0:
        return UNTRUSTED
    if after.empty > EMPTY_S:
        return EMPTY
    if abs(tilt.lean) > s.falls_at:
        return FALLEN
    if after.still > s.held_for:
        return STANDS
    return before.state


@kernel
def measure(s: BalanceSettings, before: BalanceState, after: BalanceState, sensed: SensedRow, lean: float) -> None:
    """Take in how far the wheels have rolled. An encoder counts against the body, which leans: what the wheels have rolled on the floor
    is by radius · lean more. While one says nothing it stands by the lean alone, and its wheels are taken to stand.
    """
    many = len(s.share)
    for k in range(len(after.at)):
        after.at[k] = sensed.travel[k]
        if is_nan(after.at[k]):
            after.at[k] = before.at[k]
    after.tilted, after.travel, after.forward = lean, 0.0, before.forward
    if not is_nan(before.travel):
        mean = 0.0
        for k in range(many):
            after.turning[k] = div(
                row_sum(s.share[k], after.at, len(after.at)) - row_sum(s.share[k], before.at, len(after.at)), s.dt
            )
            mean += div(after.turning[k], 1.0 * many)
        moved = mean * s.top * s.dt + s.radius * (lean - before.tilted)
        after.travel = before.travel + moved
        after.forward = before.forward + (div(moved, s.dt) - before.forward) * s.smooth
        for k in range(many):
            after.turning[k] = before.turning[k] + (after.turning[k] - mean - before.turning[k]) * s.smooth


@kernel
def one_loop(
    s: LoopSettings, before: BalanceState, after: BalanceState, k: int, setpoint: float, measured: float, dt: float, out: BalanceColumns,
) -> float:  # fmt: skip
    """Return what loop k gives, and write its parts."""
    p, i, _, output = loop(s, before.added[k], setpoint - measured, 0.0, dt)
    after.added[k] = i
    out.setpoint[k], out.measured[k], out.p[k], out.i[k], out.output[k] = setpoint, measured, p, i, output
    return output


@kernel
def hold_place(s: BalanceSettings, before: BalanceState, after: BalanceState, commanded: float) -> None:
    """Move the place that is held: with the robot while it is driven, and no farther from it than it reaches."""
    after.holds = before.holds
    if abs(commanded) > ASKS_M_S:
        after.holds = 0.0
    elif abs(after.forward) < ARRIVES_M_S:
        after.holds = 1.0
    after.setpoint = clamp(before.setpoint, after.travel - s.reach, after.travel + s.reach)
    if after.holds == 0.0:
        after.setpoint = after.travel


@kernel
def rest(after: BalanceState, out: BalanceColumns) -> None:
    """Take the drive off, and forget what loops have added up."""
    after.setpoint, after.holds = after.travel, 1.0
    for k in range(4):
        after.added[k] = 0.0
        out.setpoint[k], out.measured[k], out.p[k], out.i[k], out.output[k] = 0.0, 0.0, 0.0, 0.0, 0.0
    out.upright = 0.0
    for k in range(len(out.drive)):
        after.turned[k], out.turn[k], out.drive[k] = 0.0, 0.0, 0.0


@kernel
def balance_step(
    s: BalanceSettings, before: BalanceState, after: BalanceState, speeds: Numbers, sensed: SensedRow, tilt: TiltColumns,
    out: BalanceColumns,
) -> None:  # fmt: skip
    """Find each motor's drive, before its polarity, from the commanded wheel speeds.

    Notes
    -----
    The cascade v₀ = v_asked + C_x(x₀ - x), θ₀ = C_v(v₀ - v), ω₀ = C_θ(θ₀ - θ), drive = -C_ω(ω₀ - ω) + the back-EMF's share. The sign is that
    of the reaction: a motor that turns its wheel forward turns the body back. Where a loop has only P this is a state feedback, so gains of
    LQR can be put into it. What turns the robot is added with opposite signs on both sides, as far as balance leaves room. (Åström &
    Murray, Feedback Systems, ch. 12.6 for the cascade; Grasser et al. 2002 for such robots.)
    """
    many = len(s.share)
    measure(s, before, after, sensed, tilt.lean)
    out.state = state_after(s, before, after, sensed, tilt)
    after.state = out.state
    if out.state != STANDS or before.state != STANDS:
        rest(after, out)
        return
    commanded = 0.0
    for k in range(many):
        commanded += div(row_sum(s.share[k], speeds, len(after.at)), 1.0 * many)
    hold_place(s, before, after, commanded * s.top)
    speed = commanded * s.top + one_loop(s.place, before, after, 0, after.setpoint, after.travel, s.dt, out)
    lean = one_loop(s.speed, before, after, 1, speed, after.forward, s.dt, out)
    rate = one_loop(s.lean, before, after, 2, lean, tilt.lean, s.dt, out)
    wanted = one_loop(s.rate, before, after, 3, rate, tilt.rate, s.dt, out)
    turns = div(after.forward, s.top)
    out.upright = clamp(s.back_emf * turns - wanted, -1.0, 1.0)
    room = 1.0 - abs(out.upright)
    for k in range(many):
        apart = row_sum(s.share[k], speeds, len(after.at)) - commanded
        _, i, _, turn = loop(s.turn, before.turned[k], apart - after.turning[k], 0.0, s.dt)
        after.turned[k] = i
        out.turn[k] = clamp(s.back_emf * apart + turn, -room, room)
        drive = out.upright + out.turn[k]
        # friction takes its share of every drive, but almost none near zero, so that a robot at rest does not chatter
        drive += s.static * div(drive, abs(drive) + s.static + NONE)
        out.drive[k] = clamp(drive, -1.0, 1.0)


def _loop(form: Form, table: object, unit: float, limit: float, i_limit: float) -> LoopSettings:
    """Return a loop's settings; ``unit`` is one of its output's as the rig file says it, in SI."""
    made: LoopSettings = form.of(
        p=table.p * unit, i=table.i * unit, d=0.0, clamp=i_limit, memory=1.0, largest=limit,  # type: ignore[attr-defined]
    )  # fmt: skip
    return made


def settings_of(rig: Rig, table: Table) -> BalanceSettings:
    """Return the balance of a rig."""
    wheels = [w.name for w in rig.chassis.wheels]
    share = np.zeros((len(rig.motors), len(wheels)))
    for m, motor in enumerate(rig.motors.values()):
        for wheel in motor.wheels:
            share[m, wheels.index(wheel)] = 1 / len(motor.wheels) / rig.wheel_top_m_s(wheel)
    form = Form(LoopSettings)
    limits = (
        table.place.output_limit_m_s,
        table.speed.output_limit_rad,
        table.lean.output_limit_rad_s,
        table.rate.output_limit,
    )
    loops = {
        "place": _loop(form, table.place, 1.0, limits[0], limits[0]),
        "speed": _loop(form, table.speed, radians(1.0), limits[1], table.speed.i_limit_rad),
        "lean": _loop(form, table.lean, 1.0, limits[2], limits[2] / 2),
        "rate": _loop(form, table.rate, 1.0, limits[3], limits[3] / 2),
        "turn": _loop(form, table.turn, 1.0, table.turn.output_limit, table.turn.output_limit),
    }
    made: BalanceSettings = Form(
        BalanceSettings, motors=len(rig.motors), wheels=len(wheels), **dict.fromkeys(loops, form)
    ).of(
        share=share,
        top=min(rig.wheel_top_m_s(w) for w in wheels),
        radius=rig.chassis.wheels[0].radius_m,
        **loops,
        back_emf=table.back_emf,
        static=max(m.smallest for m in rig.motors.values()),
        smooth=rig.dt_s / (rig.dt_s + table.speed.speed_filter_s),
        reach=table.reach_m,
        falls_at=table.falls_at_rad,
        upright=table.upright_within_rad,
        held_for=table.held_for_s,
        least=rig.battery.restarts_below_V if rig.battery.sensed else 0.0,
        dt=rig.dt_s,
    )
    return made


class Balance(Stage):
    """For rigs that balance: it takes the place of the control of each wheel."""

    name = "balance"
    begins = MappingProxyType({"travel": nan})

    def __init__(self, rig: Rig, table: Table) -> None:
        self.settings: BalanceSettings = settings_of(rig, table)
        self._rig, self._motors = rig, [plain(m) for m in rig.motors]
        units = ("m", "m/s", "rad", "rad/s"), ("m", "m/s", "rad", "rad/s"), *(("m/s", "rad", "rad/s", ""),) * 3
        columns = [
            (f"{n}_{p}", u) for p, row in zip(PARTS, units, strict=True) for n, u in zip(NAMES, row, strict=True)
        ]
        motors = [(f"{m}_{p}", "") for p in ("turn", "drive") for m in self._motors]
        self.columns = named("balance", ("state", ""), *columns, ("upright", ""), *motors)
        sizes = {"motors": len(self._motors), "wheels": len(rig.chassis.wheels)}
        self.form, self.memory = Form(BalanceColumns, motors=sizes["motors"]), Form(BalanceState, **sizes)
        self.kept_while = (tuple(self._motors),)

    @classmethod
    def of(cls, rig: Rig, inputs: Inputs) -> Balance | None:
        return cls(rig, rig.balance) if rig.balance is not None else None

    # --- explanation ---

    def _of(self, tick: WheelTick) -> str:
        return plain(next(n for n, m in self._rig.motors.items() if tick.wheel in m.wheels))

    def phrases(self, tick: WheelTick) -> list[str]:
        state = tick("balance", "state")
        if state != STANDS:
            return [STATES[state]]
        lean, wanted = (degrees(tick("balance", f"lean_{what}")) for what in ("measured", "setpoint"))
        return [
            f"lean {lean:+.1f} deg, target {wanted:+.1f}: drive {tick('balance', f'{self._of(tick)}_drive') * 100:+.0f} %"
        ]

    def rungs(self, tick: WheelTick) -> list[Rung]:
        state, motor = tick("balance", "state"), self._of(tick)
        if state != STANDS:
            return [Rung("balance", STATES[state], "balance.held_for", "! no drive")]
        found = []
        for name, unit, out, scale, drives in (
            ("place", "m", "m/s", 1.0, 1.0), ("speed", "m/s", "deg", 1.0, degrees(1)), ("lean", "deg", "deg/s", degrees(1), degrees(1)),
            ("rate", "deg/s", "% of drive", degrees(1), -100.0),
        ):  # fmt: skip
            setpoint, measured, p, i, output = (tick("balance", f"{name}_{what}") for what in PARTS)
            missing = (setpoint - measured) * scale
            text = f"{missing:+.3g} {unit} missing: p {p * drives:+.3g}, i {i * drives:+.3g} → {output * drives:+.3g} {out}"
            found.append(Rung(name, text, f"balance.{name}.p"))
        drive, turn = tick("balance", f"{motor}_drive"), tick("balance", f"{motor}_turn")
        full = "! full drive: nothing is left to catch it" if abs(tick("balance", "upright")) > 0.9995 else ""
        upright = tick("balance", "upright")
        found.append(
            Rung("balance", f"upright {upright:+.3f}, turn {turn:+.3f} → {drive:+.3f}", "balance.rate.p", full)
        )
        return found
