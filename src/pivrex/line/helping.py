"""Helping: what the robot does for its driver while a button is held, by its estimated pose. The driver's stick always wins."""

from __future__ import annotations

import numpy as np

from pivrex.kernels.maths import atan2, clamp, cos, div, hypot, larger, nan, rint, sin, smaller, sqrt, whole, wrap
from pivrex.kernels.records import Flag, Form, Number, Numbers, Record, Whole, Wholes, field
from pivrex.kernels.subset import kernel
from pivrex.line.bindings import BindingsColumns, column_of
from pivrex.line.helps import Help, helps_of
from pivrex.line.inputs import Inputs
from pivrex.line.law import LawColumns
from pivrex.line.odometry import OdometryColumns
from pivrex.line.stage import Rung, Stage, named
from pivrex.line.wheel_tick import NOTHING, WheelTick, turning
from pivrex.rig.actions import FACE, LINE, POSE, SNAP
from pivrex.rig.rig import Rig
from pivrex.units import wrap_deg

__all__ = ["Helping", "HelpingColumns", "HelpingSettings", "HelpingState", "helping_step"]

TOUCHES = 1e-6
"""A motion above this is the driver's: then there is no help."""

THERE_RAD, THERE_M = 0.005, 0.004
NEAR_M = 0.03
SHARE = 0.6
SIDEWAYS = 0.1
"""A command across a line, as a share of the command along it, is not the driver's intention: turning may cause it."""

AHEAD_RAD = 0.6
"""A two-sided robot that points further away from its place turns first."""


TO_ANGLE, TO_STEP, TO_FACE, TO_LINE, TO_PLACE, TO_POSE = 0, 1, 2, 3, 4, 5
"""The kinds of help: the nearest of some headings, the nearest multiple, looking at a place, keeping a line, driving to a place, and that
with a heading.
"""


class HelpingSettings(Record):
    """How a rig helps, with H helps.

    Attributes
    ----------
    kind : (H,)
    first, many : (H,)
        Where the numbers of each begin, and how many they are.
    numbers : (N,)
        In m and rad.
    can_left : flag
        Whether it moves in any direction.
    p, p_across, p_along : float
        Of the heading, across and along, in 1/s.
    rise, turn_acceleration : float
        In m/s² and rad/s²: it comes to rest with no more.
    most, max_turn : float
        In m/s and rad/s.
    bend_across, bend_heading : float
        Of a two-sided robot that keeps a line, in 1/m² and 1/m.
    help : int
        The column of the bindings.
    """

    is_settings = True

    kind: Wholes = field("helps")
    first: Wholes = field("helps")
    many: Wholes = field("helps")
    numbers: Numbers = field("numbers")
    can_left: Flag = field()
    p: Number = field(unit="1/s")
    p_across: Number = field(unit="1/s")
    p_along: Number = field(unit="1/s")
    rise: Number = field(unit="m/s^2")
    turn_acceleration: Number = field(unit="rad/s^2")
    most: Number = field(unit="m/s")
    max_turn: Number = field(unit="rad/s")
    bend_across: Number = field(unit="1/m^2")
    bend_heading: Number = field(unit="1/m")
    help: Whole = field()


class HelpingState(Record):
    """The memory of helping: the active help, B, from 1, 0 for none; and the robot's pose when it began, B + (3,)."""

    which: Number = field()
    since: Numbers = field(3, unit="m, m, rad")


class HelpingColumns(Record):
    """Which help is on, its target heading, how far that is off, how far the robot is from its line and from its place, and the
    motion.
    """

    which: Number = field()
    target: Number = field(unit="rad")
    off: Number = field(unit="rad")
    across: Number = field(unit="m")
    away: Number = field(unit="m")
    twist: Numbers = field(3, unit="m/s, m/s, rad/s")


@kernel
def turn_back(s: HelpingSettings, off: float) -> float:
    """Return the turn, in rad/s, that takes an error of the heading away, and comes to rest there."""
    size = abs(off)
    if size < THERE_RAD:
        return 0.0
    fast = smaller(smaller(s.p * size, sqrt(2.0 * s.turn_acceleration * size)), s.max_turn)
    return -fast if off < 0.0 else fast


@kernel
def look(s: HelpingSettings, target: float, heading: float, moves: float, out: HelpingColumns) -> None:
    """Turn to a heading that turns itself by ``moves``, in rad/s; the driver's own turn goes first."""
    out.target, out.off = target, wrap(target - heading)
    if abs(out.twist[2]) < TOUCHES:
        out.twist[2] = moves + turn_back(s, out.off)


@kernel
def snap(s: HelpingSettings, k: int, since: Numbers, heading: float, out: HelpingColumns) -> None:
    """Turn to the nearest of chosen headings, or of multiples of a step: the one that was nearest when it began."""
    target = since[2]
    if s.kind[k] == TO_STEP:
        step = s.numbers[s.first[k]]
        target = rint(div(since[2], step)) * step
    else:
        best = 10.0
        for i in range(s.many[k]):
            off = wrap(s.numbers[s.first[k] + i] - since[2])
            if abs(off) < best:
                target, best = since[2] + off, abs(off)
    look(s, target, heading, 0.0, out)


@kernel
def face(s: HelpingSettings, k: int, pose: Numbers, out: HelpingColumns) -> None:
    """Look at a place, wherever it is driven; the turn that its own motion makes necessary is known beforehand."""
    dx, dy = s.numbers[s.first[k]] - pose[0], s.numbers[s.first[k] + 1] - pose[1]
    square = dx * dx + dy * dy
    target, moves = pose[2], 0.0
    if square > NEAR_M * NEAR_M:
        c, n = cos(pose[2]), sin(pose[2])
        vx, vy = c * out.twist[0] - n * out.twist[1], n * out.twist[0] + c * out.twist[1]
        target, moves = atan2(dy, dx), div(vx * dy - vy * dx, square)
    look(s, target, pose[2], moves, out)
    out.away = sqrt(square)


@kernel
def keep_line(s: HelpingSettings, since: Numbers, pose: Numbers, out: HelpingColumns) -> None:
    """Keep the line through where it began, along where it looked then."""
    c, n = cos(since[2]), sin(since[2])
    across = c * (pose[1] - since[1]) - n * (pose[0] - since[0])
    off = wrap(since[2] - pose[2])
    out.target, out.off, out.across, out.away = since[2], off, across, abs(across)
    if not abs(out.twist[2]) < TOUCHES:
        return
    forward, left = out.twist[0], out.twist[1]
    if not s.can_left:
        turn = -forward * s.bend_across * across * cos(off) + abs(forward) * s.bend_heading * sin(off)
        out.twist[2] = clamp(turn, -s.max_turn, s.max_turn)
        return
    a, b = cos(-off), sin(-off)  # the line's directions, seen from the robot
    asks, along = a * left + b * forward, a * forward - b * left  # the driver's request across it, and along it
    if abs(asks) < TOUCHES + SIDEWAYS * abs(along):
        back = clamp(-s.p_across * across, -s.most, s.most)
        out.twist[0], out.twist[1] = forward + b * back, left + a * back
    out.twist[2] = turn_back(s, off)


@kernel
def drive_to(s: HelpingSettings, k: int, since: Numbers, pose: Numbers, out: HelpingColumns) -> None:
    """Drive to a place, and look as it says; without a heading as it looks."""
    dx, dy = s.numbers[s.first[k]] - pose[0], s.numbers[s.first[k] + 1] - pose[1]
    away = hypot(dx, dy)
    facing = s.numbers[s.first[k] + 2] if s.kind[k] == TO_POSE else since[2]
    off = wrap(facing - pose[2])
    out.target, out.off, out.away = facing, off, away
    if abs(out.twist[0]) + abs(out.twist[1]) >= TOUCHES or abs(out.twist[2]) >= TOUCHES:
        return
    fast = 0.0
    if not away < THERE_M:
        fast = smaller(smaller(s.p_along * away, sqrt(2.0 * s.rise * away)), s.most)
    c, n = cos(pose[2]), sin(pose[2])
    ahead, can_left = c * dx + n * dy, c * dy - n * dx
    if s.can_left:
        safe = larger(away, 1e-9)
        out.twist[0], out.twist[1], out.twist[2] = (
            div(fast * ahead, safe),
            div(fast * can_left, safe),
            turn_back(s, off),
        )
        return
    bearing = atan2(can_left, ahead)
    if away < NEAR_M:
        bearing, fast = off if s.kind[k] == TO_POSE else 0.0, 0.0
    out.twist[0] = 0.0 if abs(bearing) > AHEAD_RAD else fast * cos(bearing)
    out.twist[1], out.twist[2] = 0.0, turn_back(s, bearing)


@kernel
def helping_step(
    s: HelpingSettings, before: HelpingState, after: HelpingState, commanded: Numbers, bindings: BindingsColumns, law: LawColumns,
    odometry: OdometryColumns, out: HelpingColumns,
) -> None:  # fmt: skip
    """Help as a button asks, but not while another than the controls asks for the motion."""
    which = 0.0 if law.entered else bindings.value[s.help]
    for i in range(3):
        out.twist[i] = commanded[i]
        after.since[i] = odometry.pose[i] if which != before.which else before.since[i]
    if which != 0.0 or before.which != 0.0:
        out.target = nan
    after.which, out.which = which, which
    if which < 1.0:
        return
    k = whole(which) - 1
    if s.kind[k] == TO_ANGLE or s.kind[k] == TO_STEP:
        snap(s, k, after.since, odometry.pose[2], out)
    elif s.kind[k] == TO_FACE:
        face(s, k, odometry.pose, out)
    elif s.kind[k] == TO_LINE:
        keep_line(s, after.since, odometry.pose, out)
    else:
        drive_to(s, k, after.since, odometry.pose, out)


class Helping(Stage):
    """For rigs with a binding that helps."""

    name = "helping"

    def __init__(self, rig: Rig, helps: tuple[Help, ...], inputs: Inputs) -> None:
        f = rig.following
        self.offered = helps
        numbers = [(h.numbers[1:] if h.kind == SNAP and not h.numbers[0] else h.numbers) for h in helps]
        many = [len(n) for n in numbers]
        self.settings: HelpingSettings = Form(HelpingSettings, helps=len(helps), numbers=sum(many)).of(
            kind=[_kind_of(h) for h in helps],
            first=np.cumsum([0, *many])[:-1],
            many=many,
            numbers=[v for own in numbers for v in own],
            can_left=rig.chassis.geometry.can(np.array([0.0, 1.0, 0.0])),
            p=f.heading.p, p_across=f.cross_track.p, p_along=f.along_track.p,
            rise=f.acceleration_m_s2, turn_acceleration=0.7 * f.turn_acceleration_rad_s2,
            most=SHARE * rig.full_forward_m_s, max_turn=SHARE * rig.full_turn_rad_s,
            bend_across=4.0 * f.cross_track.p, bend_heading=f.heading.p,
            help=column_of(rig, inputs, "help"),
        )  # fmt: skip
        self.form, self.memory = Form(HelpingColumns), Form(HelpingState)
        self.columns = named(
            "helping", ("which", ""), ("target", "rad"), ("heading_error", "rad"), ("cross_track", "m"), ("distance", "m"),
            ("forward", "m/s"), ("left", "m/s"), ("turn", "rad/s"),
        )  # fmt: skip
        self.kept_while = helps

    @classmethod
    def of(cls, rig: Rig, inputs: Inputs) -> Helping | None:
        helps = helps_of([p.action for p in inputs.patches if p.action is not None])
        return cls(rig, helps, inputs) if helps else None

    # --- explanation ---

    def helps(self, tick: WheelTick) -> Help | None:
        """Return the help that is on."""
        which = int(tick("helping", "which"))
        return self.offered[which - 1] if which else None

    def _words(self, tick: WheelTick, one: Help) -> str:
        off = abs(float(np.degrees(tick("helping", "heading_error"))))
        away, across = tick("helping", "distance"), tick("helping", "cross_track")
        target = wrap_deg(float(np.degrees(tick("helping", "target")))) if one.kind != POSE else 0.0
        place = ", ".join(f"{v:.2f} m" for v in one.numbers[:2])
        return {
            SNAP: f"snaps to {target:.0f} deg, {off:.1f} deg off",
            FACE: f"faces {place}, {off:.1f} deg off",
            LINE: f"keeps the line, {abs(across) * 100:.1f} cm off",
            POSE: f"drives to {place}, {away:.2f} m away",
        }[one.kind]

    def _changes(self, tick: WheelTick) -> str:
        forward, left = (tick("helping", n) for n in ("forward", "left"))
        turn = float(np.degrees(tick("helping", "turn")))
        return f"forward {forward:+.2f} m/s, left {left:+.2f} m/s, {turning(turn)}"

    def phrases(self, tick: WheelTick) -> list[str]:
        one = self.helps(tick)
        before = "frame" if tick.line.layout.has("frame", "turn") else "law"
        same = all(abs(tick("helping", n) - tick(before, n)) < NOTHING for n in ("forward", "left", "turn"))
        return [] if one is None or same else [f"{self._words(tick, one)}: {self._changes(tick)}"]

    def rungs(self, tick: WheelTick) -> list[Rung]:
        one = self.helps(tick)
        return (
            []
            if one is None
            else [Rung("help", f"{self._words(tick, one)} → {self._changes(tick)}", "following.heading.p")]
        )


def _kind_of(one: Help) -> int:
    if one.kind == SNAP:
        return TO_STEP if one.numbers[0] else TO_ANGLE
    if one.kind == POSE:
        return TO_POSE if len(one.numbers) > 2 else TO_PLACE
    return {FACE: TO_FACE, LINE: TO_LINE}[one.kind]
