"""Correction: adds to the turn what the gyro shows is missing. It holds a heading, or follows one that moves."""

from __future__ import annotations

from math import exp

import numpy as np

from pivrex.kernels.maths import clamp, div, is_nan, nan, wrap
from pivrex.kernels.records import Flag, Form, Number, Numbers, Record, Whole, field, part
from pivrex.kernels.subset import kernel
from pivrex.line.aim import AimColumns
from pivrex.line.bindings import BindingsColumns, column_of
from pivrex.line.heading import HeadingColumns
from pivrex.line.input_stages import ClockColumns, SensedRow
from pivrex.line.inputs import Inputs
from pivrex.line.kinematics import kinematics_of
from pivrex.line.pid import LoopSettings, loop
from pivrex.line.stage import Rung, Stage, named
from pivrex.line.wheel_tick import NOTHING, WheelTick, turning
from pivrex.rig.correction import Correction as CorrectionTable
from pivrex.rig.rig import Rig
from pivrex.units import wrap_deg

__all__ = [
    "FAULTS", "NEVER", "Correction", "CorrectionColumns", "CorrectionSettings", "CorrectionState", "correction_step",
]  # fmt: skip

NEVER = "never"
"""In the place of ``hold`` for a line in which no one can ask for it: what leaves then depends on no sensor."""

TOUCHES = 1e-6
"""A turn above this, in rad/s, is the driver's: the heading is let go."""

FAULTS = (
    "",
    "the gyro counts the other way than the robot turns: the correction would turn it in circles; gyro.reversed fixes it",
    "nothing is heard of the gyro",
    "the gyro's heading jumped: the heading is recaptured",
)
"""What may be wrong with the gyro, by the number in the Tick. The first two put an end to the correction."""

REVERSED, SILENT, JUMPED = 1.0, 2.0, 3.0

NOTICES_S = 0.3
"""How long a gyro must count against the wheels before it counts as reversed: longer than a push lasts."""

CLEARLY_RAD_S = 0.25
"""Turns slower than this tell nothing about the gyro's way."""

JUMP_RAD_S = 35.0
"""No robot turns this fast (2000 deg/s): a gyro that says so has jumped."""


class CorrectionSettings(Record):
    """The heading loop. Gains and limits in rad/s for rad; see `pivrex.rig.correction`.

    Attributes
    ----------
    idle : flag
        Whether nothing can ever ask for it.
    outer : LoopSettings
    inner_p, inner_i : float
        The loop of the rate behind it; both 0 without one.
    smooth : float
        How much of a newly measured rate counts.
    settled : float
    on : flag
        Whether it holds at the start.
    dt : float
    has_measured : flag
    measured : (W,)
        What each wheel's speed adds to the turn that the wheels measure; nothing where they cannot say.
    holding : int
        The column of the bindings, -1 for none.
    """

    is_settings = True

    idle: Flag = field()
    outer: LoopSettings = part()
    inner_p: Number = field()
    inner_i: Number = field()
    smooth: Number = field()
    settled: Number = field(unit="rad/s")
    on: Flag = field()
    dt: Number = field(unit="s")
    has_measured: Flag = field()
    measured: Numbers = field("wheels", unit="1/m")
    holding: Whole = field()


class CorrectionState(Record):
    """The memory of the correction, B each.

    Attributes
    ----------
    on : whether the heading is held when the driver does not turn.
    target : the heading that is held, rad; NaN while none is.
    heading : the last one, rad; NaN before the first.
    rate : measured, averaged, rad/s.
    added, inner : the parts of I of both loops, rad/s.
    output : the commanded turn, corrected, rad/s.
    against : for how long the gyro counts against the wheels, s.
    """

    on: Flag = field()
    target: Number = field(unit="rad")
    heading: Number = field(unit="rad")
    rate: Number = field(unit="rad/s")
    added: Number = field(unit="rad/s")
    inner: Number = field(unit="rad/s")
    output: Number = field(unit="rad/s")
    against: Number = field(unit="s")


class CorrectionColumns(Record):
    """Whether a heading is held, which, its error, the measured rate, the parts of both loops, what is added, what is wrong with the gyro,
    and the motion.
    """

    on: Flag = field()
    target: Number = field(unit="rad")
    error: Number = field(unit="rad")
    rate: Number = field(unit="rad/s")
    p: Number = field(unit="rad/s")
    i: Number = field(unit="rad/s")
    d: Number = field(unit="rad/s")
    rate_p: Numbers = field("inner", unit="rad/s")
    rate_i: Numbers = field("inner", unit="rad/s")
    output: Number = field(unit="rad/s")
    fault: Number = field()
    twist: Numbers = field(3, unit="m/s, m/s, rad/s")


@kernel
def measure_rate(s: CorrectionSettings, before: CorrectionState, after: CorrectionState, heading: float) -> float:
    """Write the measured rate of turn, averaged; returns what is wrong with the gyro."""
    after.heading, after.rate = heading, before.rate
    if is_nan(heading):
        return SILENT
    now = 0.0 if is_nan(before.heading) else div(heading - before.heading, s.dt)
    if abs(now) > JUMP_RAD_S:
        return JUMPED
    after.rate = before.rate + (now - before.rate) * s.smooth
    return 0.0


@kernel
def choose_target(
    s: CorrectionSettings, before: CorrectionState, after: CorrectionState, aim: AimColumns, commanded: float, heading: float,
    stopped: bool, fault: float,
) -> float:  # fmt: skip
    """Return the heading that is held, in rad, NaN for none: the one that another asks for, else where the robot looked when the driver
    no longer turned it.
    """
    if stopped or fault > 0.0:
        return nan
    if aim.entered > 0.0:
        return aim.heading
    if abs(commanded) > TOUCHES or not after.on:
        return nan
    if not is_nan(before.target):
        return before.target
    return heading if abs(after.rate) < s.settled else nan


@kernel
def inner_loop(
    s: CorrectionSettings, after: CorrectionState, kept: float, inner: float, wanted: float, out: CorrectionColumns
) -> float:
    """Return the output of the loop of the rate behind that of the heading.

    The same limit holds for all that is added, and neither integral grows while it would push further into it.
    """
    most = s.outer.largest
    first = out.p + out.i + out.d
    output = clamp(first, -most, most)
    tried = output + s.inner_p * (wanted + output - after.rate) + inner
    if abs(tried) > most and (out.i - kept) * tried > 0.0:
        out.i = kept
    output = clamp(out.p + out.i + out.d, -most, most)
    missing = wanted + output - after.rate
    push, grown = s.inner_p * missing, clamp(inner + s.inner_i * missing * s.dt, -most, most)
    tried = output + push + grown
    if abs(tried) > most and (grown - inner) * tried > 0.0:
        grown = inner
    after.inner = grown
    out.rate_p[0], out.rate_i[0] = push, grown
    return clamp(output + push + grown, -most, most)


@kernel
def correct(
    s: CorrectionSettings, before: CorrectionState, after: CorrectionState, aim: AimColumns, heading: float,
    out: CorrectionColumns,
) -> float:  # fmt: skip
    """Return what is added to the turn, in rad/s; 0 while no heading is held.

    Notes
    -----
    With e the wrapped error and w the rate at which the target moves: turn = w + clip(p·e + i·∫e + d·(w - measured)). In a
    cascade that sum is a wanted rate r, and the turn is w + clip(r - w + p'·(r - measured) + i'·∫(r - measured)). (Åström & Murray,
    Feedback Systems, ch. 11.)
    """
    out.error, out.p, out.i, out.d = 0.0, 0.0, 0.0, 0.0
    for k in range(len(out.rate_p)):
        out.rate_p[k], out.rate_i[k] = 0.0, 0.0
    after.added, after.inner = 0.0, 0.0
    if is_nan(after.target):
        return 0.0
    out.error = wrap(after.target - heading)
    wanted = aim.rate if aim.entered > 0.0 else 0.0
    out.p, out.i, out.d, output = loop(s.outer, before.added, out.error, wanted - after.rate, s.dt)
    if len(out.rate_p) > 0:
        output = inner_loop(s, after, before.added * s.outer.memory, before.inner, wanted, out)
    after.added = out.i
    return output


@kernel
def turn_of_wheels(s: CorrectionSettings, before: CorrectionState, sensed: SensedRow) -> float:
    """Return how fast the wheels say that the robot turns, in rad/s; where they cannot say, what was commanded."""
    if not s.has_measured:
        return before.output
    total = 0.0
    for k in range(len(s.measured)):
        total += sensed.speed[k] * s.measured[k]
    return total


@kernel
def correction_step(
    s: CorrectionSettings, before: CorrectionState, after: CorrectionState, clock: ClockColumns, sensed: SensedRow, heading: HeadingColumns,
    aim: AimColumns, bindings: BindingsColumns, twist: Numbers, out: CorrectionColumns,
) -> None:  # fmt: skip
    """Add what the gyro says is missing to the turn. A gyro that counts against the wheels, or says nothing, ends that."""
    out.twist[0], out.twist[1], out.twist[2] = twist[0], twist[1], twist[2]
    if s.idle:
        out.target = nan
        return
    after.on = before.on
    if s.holding >= 0 and bindings.value[max(s.holding, 0)] > 0.0:
        after.on = not before.on
    now = heading.heading[0]
    fault = measure_rate(s, before, after, now)
    target = choose_target(s, before, after, aim, twist[2], now, clock.stopped, fault)
    turns = turn_of_wheels(s, before, sensed)
    wrong = (
        not is_nan(target)
        and abs(after.rate) > CLEARLY_RAD_S
        and abs(turns) > CLEARLY_RAD_S
        and after.rate * turns < 0.0
    )
    after.against = before.against + s.dt if wrong else 0.0
    if after.against > NOTICES_S:
        fault, target = REVERSED, nan
    if fault in (REVERSED, SILENT):
        after.on = False
    after.target = target
    out.output = correct(s, before, after, aim, now, out)
    out.on, out.target, out.rate, out.fault = after.on, target, after.rate, fault
    out.twist[2] = twist[2] + out.output
    after.output = out.twist[2]


def settings_of(rig: Rig, inputs: Inputs, idle: bool) -> CorrectionSettings:
    """Return the loop of a rig."""
    c = rig.correction or CorrectionTable()
    measured = [] if idle else _measured_turn(rig)
    gains = Form(LoopSettings)
    made: CorrectionSettings = Form(CorrectionSettings, wheels=len(rig.chassis.wheels), outer=gains).of(
        idle=idle,
        outer=gains.of(
            p=c.p_per_s,
            i=c.i,
            d=c.d,
            clamp=c.i_limit_rad_s,
            memory=exp(-rig.ask_dt_s / c.i_leak_time_s) if c.i_leak_time_s else 1.0,
            largest=c.output_limit_rad_s,
        ),
        inner_p=c.rate.p,
        inner_i=c.rate.i,
        smooth=rig.ask_dt_s / (rig.ask_dt_s + c.rate_filter_s),
        settled=c.capture_below_rad_s,
        on=c.hold == "on",
        dt=rig.ask_dt_s,
        has_measured=bool(measured),
        measured=measured or 0.0,
        holding=column_of(rig, inputs, "holding"),
    )
    return made


class Correction(Stage):
    """For rigs with a gyro and a table for it: the motion of the centre with the turn corrected."""

    name = "correction"

    def __init__(self, rig: Rig, inputs: Inputs) -> None:
        self._rig = rig
        idle = rig.correction is not None and str(rig.correction.hold) == NEVER
        self._idle = idle and not any(b.does.strip() == "hold heading" for b in rig.bindings)
        self.settings: CorrectionSettings = settings_of(rig, inputs, self._idle)
        self._cascade = bool(np.any(self.settings.inner_p) or np.any(self.settings.inner_i))
        inner = [("rate_p", "rad/s"), ("rate_i", "rad/s")] if self._cascade else []
        self.form = Form(CorrectionColumns, inner=len(inner) // 2)
        self.memory = Form(CorrectionState)
        self.begins = {"on": self.settings.on, "target": nan, "heading": nan}
        self.columns = named(
            "correction", ("on", ""), ("target", "rad"), ("error", "rad"), ("rate", "rad/s"), ("p", "rad/s"),
            ("i", "rad/s"), ("d", "rad/s"), *inner, ("output", "rad/s"), ("fault", ""),
            ("forward", "m/s"), ("left", "m/s"), ("turn", "rad/s"),
        )  # fmt: skip

    @classmethod
    def of(cls, rig: Rig, inputs: Inputs) -> Correction | None:
        return cls(rig, inputs) if rig.gyro is not None and rig.correction is not None else None

    def keep(self, other: Stage, state: CorrectionState, batch: tuple[int, ...]) -> CorrectionState:
        """A changed gain keeps what is held; a changed start does not."""
        same = other.settings.on == self.settings.on
        return state if same else state._replace(on=self.settings.on)

    def hold(self, state: CorrectionState, on: bool) -> CorrectionState:
        """Return the state in which headings are held, or no longer."""
        fresh: CorrectionState = self.start(state.batch)
        return fresh._replace(on=float(on), heading=state.heading, rate=state.rate)

    # --- explanation ---

    def corrects(self, tick: WheelTick) -> bool:
        """Return whether it changes the turn."""
        return abs(tick("correction", "output")) > NOTHING

    def phrases(self, tick: WheelTick) -> list[str]:
        if not self.corrects(tick):
            return []
        error, output = (float(np.degrees(tick("correction", n))) for n in ("error", "output"))
        return [f"heading {abs(error):.1f} deg off: {turning(output)}"]

    def rungs(self, tick: WheelTick) -> list[Rung]:
        fault = int(tick("correction", "fault"))
        if fault:
            return [
                Rung(
                    "correct",
                    f"let go → turn {self._deg(tick, 'turn'):+.1f} deg/s",
                    "gyro.reversed",
                    f"! {FAULTS[fault]}",
                )
            ]
        if not self.corrects(tick):
            return []
        names = ("p", "i", "d", *(("rate_p", "rate_i") if self._cascade else ()))
        parts = ", ".join(f"{n.replace('_', ' ')} {self._deg(tick, n):+.1f}" for n in names)
        target = wrap_deg(float(np.degrees(tick("correction", "target"))))
        text = (
            f"target {target:+.1f} deg, error {self._deg(tick, 'error'):+.1f} deg, rate {self._deg(tick, 'rate'):+.1f} deg/s: "
            f"{parts} → {self._deg(tick, 'output'):+.1f} deg/s"
        )
        full = abs(tick("correction", "output")) > 0.999 * self.settings.outer.largest
        return [Rung("correct", text, "correction.p", "! at its largest" if full else "")]

    @staticmethod
    def _deg(tick: WheelTick, name: str) -> float:
        return float(np.degrees(tick("correction", name)))


def _measured_turn(rig: Rig) -> list[float]:
    """Return how much of a turn each wheel's speed means, in rad/s for each m/s; nothing for a robot without encoders, or with
    steered wheels: there the commanded wheel speeds must do.
    """
    maps = kinematics_of(rig.chassis)
    if maps.hubs is not None or any(not m.counts_per_turn for m in rig.motors.values()) or rig.upside_down is not None:
        return []
    return [float(share) for share in maps.forward[2]]
