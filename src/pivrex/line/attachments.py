"""Attachments in addition to the wheels: motors by speed, motors to a position, servos and switches. They obey requests."""

from __future__ import annotations

import numpy as np

from pivrex.kernels.maths import clamp, copysign, div, inf, is_nan, larger, nan
from pivrex.kernels.records import Flags, Form, Number, Numbers, Record, Whole, Wholes, field
from pivrex.kernels.subset import kernel
from pivrex.line.bindings import BindingsColumns, column_of
from pivrex.line.input_stages import ClockColumns, SensedRow
from pivrex.line.inputs import Inputs
from pivrex.line.layout import Layout, plain
from pivrex.line.routine_stage import RoutineColumns
from pivrex.line.stage import Stage, named
from pivrex.rig.attachments import (
    ENCODED,
    PLACES,
    Encoded,
    MotorAttachment,
    ServoAttachment,
    SwitchAttachment,
    has_shaft,
    reach_of,
)
from pivrex.rig.rig import Rig

__all__ = [
    "AttachmentSettings", "AttachmentState", "Attachments", "AttachmentsColumns", "attachments_step", "reached", "settings_of",
]  # fmt: skip

MOTOR, POSITION, SERVO, SWITCH = 0, 1, 2, 3


class AttachmentSettings(Record):
    """A attachments, P of them positions with an encoder, M with a motor.

    Attributes
    ----------
    kind : (A,)
        MOTOR, POSITION, SERVO or SWITCH.
    arm, driven : (A,)
        The place among those with an encoder, and among those with a motor; -1 for none.
    per_rad : (A,)
        How far it moves while the shaft of its encoder turns by a radian, in its unit.
    dt : float
        The time of a tick in s.
    low, high : (A,)
        As far as it goes: rad, a lift m, or -1 to 1 of a motor, 0 to 1 of a switch.
    begin : (A,)
        Where it is at the start.
    safe : (A,)
        Where it goes when the robot is stopped; NaN for one that has no such place.
    holds : (A,) flags
        A position that is held against a load while the robot is stopped.
    step : (A,)
        How far a share of 1 moves it in a tick.
    ease : (A,)
        How far a servo may go in a tick; infinite for one that goes at once.
    gain, largest : (A,)
        Of positions: the drive for what is missing, in rad or m, and its limit.
    shaft : (A,)
        The place among motors with an encoder that go to no place, -1 for none.
    smallest, top : (A,)
        Of motors: the smallest drive that turns them, and their speed at full drive in rad/s.
    p, i : (A,)
        Of their speed loops, both 0 for a duty: the drive for each top speed that is missing, and for that over a tick.
    first : int
        The column of the bindings where their requests begin: share, to and by of each.
    """

    is_settings = True

    kind: Wholes = field("attached")
    arm: Wholes = field("attached")
    driven: Wholes = field("attached")
    per_rad: Numbers = field("attached")
    low: Numbers = field("attached")
    high: Numbers = field("attached")
    begin: Numbers = field("attached")
    safe: Numbers = field("attached")
    holds: Flags = field("attached")
    step: Numbers = field("attached")
    ease: Numbers = field("attached")
    gain: Numbers = field("attached")
    largest: Numbers = field("attached")
    shaft: Wholes = field("attached")
    smallest: Numbers = field("attached")
    top: Numbers = field("attached", unit="rad/s")
    p: Numbers = field("attached")
    i: Numbers = field("attached")
    first: Whole = field()
    dt: Number = field(unit="s")


class AttachmentState(Record):
    """The memory of attachments, B + (A,) each: their targets, their present commands, and the encoder's value at position 0; for motors
    also their last position, NaN before the first tick, and the integrals of their loops.
    """

    goal: Numbers = field("attached")
    command: Numbers = field("attached")
    zero: Numbers = field("attached")
    shaft: Numbers = field("attached", unit="rad")
    integral: Numbers = field("attached")


class AttachmentsColumns(Record):
    """The command of each attachment, the drive of those with a motor, the position of those with an encoder, and the speed of motors with
    one.
    """

    target: Numbers = field("attached")
    drive: Numbers = field("driven")
    reached: Numbers = field("arms")
    speed: Numbers = field("shafts", unit="rad/s")


@kernel
def spin(
    s: AttachmentSettings,
    k: int,
    before: AttachmentState,
    after: AttachmentState,
    share: float,
    shaft: float,
    dt: float,
) -> tuple[float, float]:
    """Return the drive of a motor that is commanded a share of its speed, and how fast it turns in rad/s.

    Notes
    -----
    The share s is laid between the smallest and full drive: u = sign(s)·(m + (1 - m)·|s|). A speed loop adds p·e and the sum of
    i·e·dt, with e the share of top speed that is missing; the sum stays within full drive, all of it within the
    largest. At rest there is no drive. (Own rules.)
    """
    speed = 0.0 if is_nan(before.shaft[k]) else div(shaft - before.shaft[k], dt)
    after.shaft[k], after.integral[k] = shaft, 0.0
    if share == 0.0:
        return 0.0, speed
    drive = copysign(s.smallest[k] + (1.0 - s.smallest[k]) * abs(share), share)
    missing = share - div(speed, s.top[k])
    after.integral[k] = clamp(before.integral[k] + s.i[k] * missing, -1.0, 1.0)
    return clamp(drive + s.p[k] * missing + after.integral[k], -s.largest[k], s.largest[k]), speed


@kernel
def goal_of(s: AttachmentSettings, k: int, was: float, command: float, share: float, to: float, by: float) -> float:
    """Return where an attachment must go: driven by a share of its speed, sent somewhere, moved by something, or turned over."""
    goal = was
    if (s.kind[k] == POSITION or s.kind[k] == SERVO) and share != 0.0:
        goal = command + share * s.step[k]
    if not is_nan(to):
        goal = to
    if s.kind[k] == SWITCH:
        goal = 1.0 - goal if by != 0.0 else goal
    else:
        goal += by
    return share if s.kind[k] == MOTOR else clamp(goal, s.low[k], s.high[k])


@kernel
def rest_of(s: AttachmentSettings, k: int, at: float, command: float, target: float) -> float:
    """Return where an attachment rests while the robot is stopped."""
    placed = not is_nan(s.safe[k])
    if s.kind[k] == POSITION:
        return command if s.holds[k] else clamp(at, s.low[k], s.high[k])
    if s.kind[k] == SERVO:
        return target if placed else command
    return s.safe[k] if placed else target


@kernel
def obey(
    s: AttachmentSettings, k: int, before: AttachmentState, after: AttachmentState, share: float, to: float, by: float, encoder: float,
    stopped: bool, push: float, homed: bool, called: float,
) -> tuple[float, float]:  # fmt: skip
    """Let a tick pass for attachment k; returns where it is, and its drive in [-1, 1].

    Parameters
    ----------
    share, to, by : float
        What is requested: the share of its speed (of a switch 1 while something holds it on); where it must go
        from now on, NaN for nowhere new; by how much more (of a switch 1 to turn it over).
    encoder : float
        Where a position is by its encoder, in rad, a lift in m.
    push, homed, called : float, bool, float
        A position that is homed, see `pivrex.line.routine_stage`: driven at a share whatever its limits, 0 for none; whether it is where
        ``called`` says from now on.

    Notes
    -----
    To a position: drive = clip((target - position)/full_at, -largest, largest), a loop in proportion. A position that
    is not held may have sunk while the robot was stopped: it starts again from where it is. (Own rules.)
    """
    goal_was, command, zero = before.goal[k], before.command[k], before.zero[k]
    if homed:
        new = encoder - called
        goal_was, command, zero = goal_was + zero - new, command + zero - new, new
    at = encoder - zero
    pushed = s.kind[k] == POSITION and push != 0.0
    if pushed:  # it goes where it is driven, and stays there after that
        goal_was, command = at, at
    placed = not is_nan(s.safe[k])
    goal = goal_of(s, k, goal_was, command, clamp(share, -1.0, 1.0), to, by)
    if stopped and placed:
        goal = s.safe[k]
    target = goal
    if s.kind[k] == SERVO and s.ease[k] < inf:
        target = command + clamp(goal - command, -s.ease[k], s.ease[k])
    if s.kind[k] == SWITCH:
        target = larger(goal, clamp(share, -1.0, 1.0))
    if stopped:
        target = rest_of(s, k, at, command, target)
        if not (s.kind[k] == SERVO and placed) and (placed or s.kind[k] != SWITCH):
            goal = target
    missing = 0.0 if stopped and not s.holds[k] else target - at
    drive = clamp(s.gain[k] * missing, -s.largest[k], s.largest[k])
    if s.kind[k] == MOTOR:
        drive = clamp(target, -s.largest[k], s.largest[k])
    if pushed and not stopped:
        goal, target, drive = at, at, clamp(push, -s.largest[k], s.largest[k])
    after.goal[k], after.command[k], after.zero[k] = goal, target, zero
    return at, drive


@kernel
def attachments_step(
    s: AttachmentSettings, before: AttachmentState, after: AttachmentState, clock: ClockColumns, sensed: SensedRow,
    bindings: BindingsColumns, routine: RoutineColumns, out: AttachmentsColumns,
) -> None:  # fmt: skip
    """Let each attachment obey what is requested of it."""
    for k in range(len(s.kind)):
        i = s.arm[k]
        encoder = sensed.at[i] * s.per_rad[k] if i >= 0 else 0.0
        push, homed, called = (
            routine.push[i] if i >= 0 else 0.0,
            i >= 0 and routine.homed[max(i, 0)] != 0.0,
            routine.called[i] if i >= 0 else 0.0,
        )
        at = s.first + 3 * k
        _, drive = obey(
            s, k, before, after, bindings.value[at], bindings.value[at + 1], bindings.value[at + 2], encoder, clock.stopped,
            push, homed, called,
        )  # fmt: skip
        out.target[k] = after.command[k]
        after.shaft[k], after.integral[k] = before.shaft[k], before.integral[k]
        if s.kind[k] == MOTOR:
            place = s.shaft[k]
            drive, speed = spin(s, k, before, after, drive, sensed.shaft[place] if place >= 0 else 0.0, s.dt)
            if place >= 0:
                out.speed[place] = speed
        if s.driven[k] >= 0:
            out.drive[s.driven[k]] = drive
        if i >= 0:
            out.reached[i] = encoder - after.zero[k]


def reached(name: str, kind: str) -> str:
    """Return the column that says where an attachment with an encoder is."""
    return f"{name}_{'height' if kind == 'lift' else 'angle'}"


def settings_of(rig: Rig, inputs: Inputs) -> AttachmentSettings:
    """Return the attachments of a rig."""
    each = list(rig.attachments.values())
    ranges = np.array([_range(a) for a in each]).reshape(-1, 7)
    low, high, begin, safe, rate, ease, gain = ranges.T.copy()
    kinds = [
        POSITION if a.kind in ENCODED else {"motor": MOTOR, "servo": SERVO, "switch": SWITCH}[a.kind] for a in each
    ]
    names = [plain(n) for n in rig.attachments]
    made: AttachmentSettings = Form(AttachmentSettings, attached=len(each)).of(
        kind=kinds,
        arm=_counted([k == POSITION for k in kinds]),
        driven=_counted([k in (MOTOR, POSITION) for k in kinds]),
        per_rad=[reach_of(a).per_rad if a.kind in PLACES else 1.0 for a in each],
        low=low,
        high=high,
        begin=begin,
        safe=safe,
        holds=[getattr(a, "safe", "") == "hold" for a in each],
        step=rate * rig.ask_dt_s,
        ease=ease * rig.ask_dt_s,
        gain=gain,
        shaft=_counted([has_shaft(a) for a in each]),
        smallest=[a.smallest if isinstance(a, MotorAttachment) else 0.0 for a in each],
        top=[a.top_speed_rad_s if isinstance(a, MotorAttachment) else 1.0 for a in each],
        p=[a.p if isinstance(a, MotorAttachment) and a.loop == "speed" else 0.0 for a in each],
        i=[a.i * rig.ask_dt_s if isinstance(a, MotorAttachment) and a.loop == "speed" else 0.0 for a in each],
        dt=rig.ask_dt_s,
        largest=[getattr(a, "largest", 1.0) for a in each],
        first=column_of(rig, inputs, f"{names[0]}_share"),
    )
    return made


def _counted(flags: list[bool]) -> list[int]:
    """Return the place of each among those that are marked, -1 for others."""
    return [sum(flags[:i]) if flag else -1 for i, flag in enumerate(flags)]


def _range(a: object) -> tuple[float, float, float, float, float, float, float]:
    """Lowest, highest, first and safe value, rate of moving, rate of easing, gain."""
    match a:
        case Encoded():
            r = reach_of(a)
            return r.low, r.high, 0.0, nan, r.rate, inf, 1 / r.full_at
        case ServoAttachment():
            begin = a.start_rad if a.start_rad is not None else a.minimum_rad
            safe = a.safe_rad if a.safe_rad is not None else nan
            # one without a rate crosses its range in a second
            rate = a.rate_rad_s or a.maximum_rad - a.minimum_rad
            return a.minimum_rad, a.maximum_rad, begin, safe, rate, a.rate_rad_s or inf, 0.0
        case SwitchAttachment():
            # a lamp is a display: a stop does not change it
            return 0.0, 1.0, float(a.start == "on"), nan if a.shows else float(a.safe == "on"), 0.0, inf, 0.0
    return -1.0, 1.0, 0.0, 0.0, 0.0, inf, 0.0


class Attachments(Stage):
    """The target of each attachment, and the drive of those with a motor; where positions are, as they are called."""

    name = "attachments"

    def __init__(self, rig: Rig, inputs: Inputs) -> None:
        self._kinds = {plain(n): a.kind for n, a in rig.attachments.items()}
        units = {plain(n): reach_of(a).unit for n, a in rig.attachments.items() if a.kind in PLACES}
        self.settings: AttachmentSettings = settings_of(rig, inputs)
        self.driven = [n for n, kind in self._kinds.items() if kind == "motor" or kind in ENCODED]
        arms = sum(kind in ENCODED for kind in self._kinds.values())
        shafts = [plain(n) for n, a in rig.attachments.items() if has_shaft(a)]
        self.form = Form(
            AttachmentsColumns, attached=len(self._kinds), driven=len(self.driven), arms=arms, shafts=len(shafts)
        )
        self.memory = Form(AttachmentState, attached=len(self._kinds))
        self.begins = {"goal": self.settings.begin, "command": self.settings.begin, "shaft": nan}
        self.columns = named(
            "attachments",
            *((f"{n}_target", units.get(n, "")) for n in self._kinds),
            *((f"{n}_drive", "") for n in self.driven),
            *((reached(n, kind), units[n]) for n, kind in self._kinds.items() if kind in ENCODED),
            *((f"{n}_speed", "rad/s") for n in shafts),
        )
        self.kept_while = tuple(self._kinds.items())

    @classmethod
    def of(cls, rig: Rig, inputs: Inputs) -> Attachments | None:
        return cls(rig, inputs) if rig.attachments else None

    def place(self, layout: Layout) -> None:
        names = list(self._kinds)
        self.entry = layout.these("bindings", [f"{n}_{part}" for n in names for part in ("share", "to", "by")])
