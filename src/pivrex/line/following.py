"""Following: a planned motion, and the corrections that bring a robot back to its plan: three errors, each with its own loop."""

from __future__ import annotations

from math import exp
from types import MappingProxyType

import numpy as np

from pivrex.kernels.maths import atan2, clamp, cos, div, is_nan, larger, nan, sin, wrap
from pivrex.kernels.records import Flag, Form, Number, Numbers, Record, field, part
from pivrex.kernels.subset import kernel
from pivrex.line.inputs import Inputs
from pivrex.line.layout import Layout
from pivrex.line.odometry import OdometryColumns
from pivrex.line.pid import LoopSettings, loop
from pivrex.line.se2 import displaced
from pivrex.line.stage import Rung, Stage, named
from pivrex.line.wheel_tick import NOTHING, WheelTick, turning
from pivrex.rig.following import Loop
from pivrex.rig.rig import Rig

__all__ = [
    "AGAIN",
    "BEGINS",
    "COMMANDED",
    "HERE",
    "IN_PLACE",
    "Following",
    "FollowingColumns",
    "FollowingSettings",
    "FollowingState",
    "following_step",
]  # fmt: skip

IN_PLACE, HERE, AGAIN, BEGINS = 1.0, 2.0, 3.0, 4.0
"""How a plan is meant: where it lies on the field; from where the robot stands, beginning now; and going on so; where it lies on the
field, beginning now. A plan that begins remembers nothing of the plan before it.
"""

COMMANDED = (
    ("mode", ""), ("feeds_forward", ""), ("feeds_back", ""), ("waits", ""), ("x", "m"), ("y", "m"), ("heading", "rad"),
    ("angle", "rad"), ("plan_forward", "m/s"), ("plan_left", "m/s"), ("plan_turn", "rad/s"),
)  # fmt: skip
"""What someone who follows a plan asks for in a tick: its mode, 0 for none; whether the planned motion, and the corrections, count;
whether the plan waits for the robot; where the robot should be by now, the path's direction there; and the planned motion of a robot
that looks as planned.
"""

SLOWEST_M_S = 0.25
"""A two-sided robot's heading is corrected as if it were at least so fast."""

ACROSS_OF_TURNING = 4.0
"""What p of across counts, in 1/m², where turning does it."""

SHARE = 0.5
"""The largest output, as a share of full."""

NEAR_M = 0.03


class FollowingSettings(Record):
    """How a rig follows.

    Attributes
    ----------
    can_left : flag
        Whether it moves in any direction; else it corrects across through turning.
    along, across, heading : LoopSettings
    bend_across, bend_heading : float
        The gains of the tracking law, in 1/m² and 1/m.
    max_turn : float
        In rad/s.
    follows : float
        How much of the command the wheels do within a tick.
    dt : float
    """

    is_settings = True

    can_left: Flag = field()
    along: LoopSettings = part()
    across: LoopSettings = part()
    heading: LoopSettings = part()
    bend_across: Number = field(unit="1/m^2")
    bend_heading: Number = field(unit="1/m")
    max_turn: Number = field(unit="rad/s")
    follows: Number = field()
    dt: Number = field(unit="s")


class FollowingState(Record):
    """The memory of following.

    Attributes
    ----------
    pose : B + (3,) float64
        Where it is since it began a plan from where it stood.
    added : B + (3,) float64
        The parts of I of the three loops.
    errors : B + (3,) float64
        The errors before, NaN before there were any.
    turn : B float64
        How fast it should turn by now, after the lag of its wheels, in rad/s.
    """

    pose: Numbers = field(3, unit="m, m, rad")
    added: Numbers = field(3)
    errors: Numbers = field(3)
    turn: Number = field(unit="rad/s")


class FollowingColumns(Record):
    """The command (see `COMMANDED`), where the robot is in its plan's directions, its errors, the p, i and d of each of the three loops,
    what they give back, and the motion.
    """

    mode: Number = field()
    feeds_forward: Number = field()
    feeds_back: Number = field()
    waits: Number = field()
    x: Number = field(unit="m")
    y: Number = field(unit="m")
    heading: Number = field(unit="rad")
    angle: Number = field(unit="rad")
    plan: Numbers = field(3, unit="m/s, m/s, rad/s")
    at: Numbers = field(3, unit="m, m, rad")
    errors: Numbers = field(3, unit="m, m, rad")
    loops: Numbers = field(3, 3)
    back: Numbers = field(3, unit="m/s, m/s, rad/s")
    twist: Numbers = field(3, unit="m/s, m/s, rad/s")


@kernel
def place_in_plan(
    before: FollowingState, after: FollowingState, odometry: OdometryColumns, out: FollowingColumns
) -> None:
    """Write where the robot is, in its plan's directions: on the field, or from where it stood when it began."""
    for i in range(3):
        after.pose[i] = odometry.pose[i]
    if out.mode == HERE:
        after.pose[0], after.pose[1], after.pose[2] = 0.0, 0.0, 0.0
    elif out.mode == AGAIN:
        dx, dy = displaced(before.pose[2], odometry.forward, odometry.left, odometry.turn)
        after.pose[0], after.pose[1], after.pose[2] = (
            before.pose[0] + dx,
            before.pose[1] + dy,
            before.pose[2] + odometry.turn,
        )
    for i in range(3):
        out.at[i] = after.pose[i]


@kernel
def error_loop(
    s: LoopSettings, added: float, error: float, last: float, dt: float, on: bool, parts: Numbers
) -> tuple[float, float]:
    """Write p, i and d of a loop on one of the errors; returns what it remembers of I, and gives."""
    rate = 0.0 if is_nan(last) else div(error - last, dt)
    p, i, d, output = loop(s, added, error, rate, dt)
    parts[0], parts[1], parts[2] = 0.0, 0.0, 0.0
    if not on:
        return 0.0, 0.0
    parts[0], parts[1], parts[2] = p, i, d
    return i, output


@kernel
def follow_any_way(s: FollowingSettings, last: Numbers, after: FollowingState, on: bool, out: FollowingColumns) -> None:
    """Bring back a robot that moves in any direction: a loop for each error, along and across the path's direction and of the heading."""
    off = out.errors[2]
    after.added[0], along = error_loop(s.along, after.added[0], out.errors[0], last[0], s.dt, on, out.loops[0])
    after.added[1], across = error_loop(s.across, after.added[1], out.errors[1], last[1], s.dt, on, out.loops[1])
    after.added[2], out.back[2] = error_loop(s.heading, after.added[2], off, last[2], s.dt, on, out.loops[2])
    forward, left = out.twist[0], out.twist[1]
    c, n = cos(off), sin(off)
    out.twist[0], out.twist[1] = c * forward - n * left, n * forward + c * left
    c, n = cos(out.angle - after.pose[2]), sin(out.angle - after.pose[2])
    out.back[0], out.back[1] = c * along - n * across, n * along + c * across


@kernel
def follow_by_turning(
    s: FollowingSettings, last: Numbers, after: FollowingState, on: bool, rate: float, dx: float, dy: float,
    out: FollowingColumns,
) -> None:  # fmt: skip
    """Bring back a two-sided robot. ``rate``: by how much it turns slower than it should, in rad/s.

    Notes
    -----
    v = v_r·cos e_h + k₁·e_x, ω = ω_r + v_r·k₂·e_y + |v_r|·k₃·sin e_h with the errors ahead of it,
    left of it, and of its heading: a tracking law whose errors do not grow, by L = (e_x² + e_y²)/2 + (1 - cos e_h)/k₂,
    L' = -k₁·e_x² - |v_r|·k₃/k₂·sin² e_h (Kanayama, Kimura, Miyazaki & Noguchi 1990). What it turns slower than it should, because
    tyres are dragged, the heading's i adds up (an inner loop on the rate), and its d adds at once.
    """
    c, n = cos(after.pose[2]), sin(after.pose[2])
    ahead, can_left = c * dx + n * dy, c * dy - n * dx
    off, speed = out.errors[2], out.plan[0]
    # this is the rate of the error along the path, because that was measured in the tick before
    p, i, d, output = loop(
        s.along, after.added[0], ahead, 0.0 if is_nan(last[0]) else div(out.errors[0] - last[0], s.dt), s.dt
    )
    # a plan that waits is driven to: towards where the robot should be, or, near it, turned as it should look
    far = out.waits > 0.0 and ahead * ahead + can_left * can_left > NEAR_M * NEAR_M
    bearing = atan2(can_left, ahead) if far else off
    by_across = 0.0 if far else speed * s.bend_across * can_left
    by_heading = larger(abs(speed), SLOWEST_M_S) * s.bend_heading * sin(bearing)
    lacks = clamp(after.added[2] + s.heading.i * rate * s.dt, -s.max_turn, s.max_turn)
    for row in range(3):
        for k in range(3):
            out.loops[row][k] = 0.0
    out.back[0], out.back[1], out.back[2] = 0.0, 0.0, 0.0
    after.added[0], after.added[1], after.added[2] = 0.0, 0.0, 0.0
    if on:
        out.loops[0][0], out.loops[0][1], out.loops[0][2] = p, i, d
        out.loops[1][0] = by_across
        out.loops[2][0], out.loops[2][1], out.loops[2][2] = by_heading, lacks, s.heading.d * rate
        after.added[0], after.added[2] = i, lacks
        out.twist[0] = out.twist[0] * cos(off)
        out.back[0] = output
        out.back[2] = clamp(by_across + by_heading + lacks + s.heading.d * rate, -s.max_turn, s.max_turn)


@kernel
def forget_plan(after: FollowingState) -> None:
    """Remember nothing."""
    for i in range(3):
        after.pose[i], after.added[i], after.errors[i] = 0.0, 0.0, nan
    after.turn = 0.0


@kernel
def following_step(
    s: FollowingSettings, before: FollowingState, after: FollowingState, commanded: Numbers, odometry: OdometryColumns,
    out: FollowingColumns,
) -> None:  # fmt: skip
    """Add to the planned motion what brings the robot back onto its plan; without a plan the motion ``commanded`` stays."""
    for i in range(3):
        out.twist[i] = commanded[i]
    if not out.mode > 0.0:
        forget_plan(after)
        return
    place_in_plan(before, after, odometry, out)
    begins = out.mode in (HERE, BEGINS)
    should = 0.0 if begins else before.turn
    for i in range(3):
        after.added[i] = 0.0 if begins else before.added[i]
        after.errors[i] = nan if begins else before.errors[i]
        out.twist[i] = out.plan[i] * out.feeds_forward
    dx, dy = out.x - after.pose[0], out.y - after.pose[1]
    c, n = cos(out.angle), sin(out.angle)
    out.errors[0], out.errors[1] = c * dx + n * dy, c * dy - n * dx
    out.errors[2] = wrap(out.heading - after.pose[2])
    on = out.feeds_back > 0.0
    if s.can_left:
        follow_any_way(s, after.errors, after, on, out)
    else:
        follow_by_turning(s, after.errors, after, on, should - div(odometry.turn, s.dt), dx, dy, out)
    for i in range(3):
        out.twist[i] += out.back[i]
        after.errors[i] = out.errors[i]
    wants = out.twist[2] - out.loops[2][2] - out.loops[2][1]
    after.turn = should + (wants - should) * s.follows


class Following(Stage):
    """For every rig; idle unless someone enters a plan.

    Its loops go by the odometry of the same tick. That depends on sensors, so whoever enters a plan must make ticks one at a time.
    """

    name = "following"
    begins = MappingProxyType({"errors": nan})

    def __init__(self, rig: Rig) -> None:
        f = rig.following

        form = Form(LoopSettings)

        def gains(of: Loop, most: float) -> LoopSettings:
            made: LoopSettings = form.of(p=of.p, i=of.i, d=of.d, clamp=most, memory=1.0, largest=most)
            return made

        speed, turn = SHARE * rig.full_forward_m_s, SHARE * rig.full_turn_rad_s
        self.settings: FollowingSettings = Form(FollowingSettings, along=form, across=form, heading=form).of(
            can_left=rig.chassis.geometry.can(np.array([0.0, 1.0, 0.0])),
            along=gains(f.along_track, speed),
            across=gains(f.cross_track, speed),
            heading=gains(f.heading, turn),
            bend_across=ACROSS_OF_TURNING * f.cross_track.p,
            bend_heading=f.heading.p,
            max_turn=turn,
            follows=1.0 - exp(-rig.ask_dt_s / rig.lag_s) if rig.lag_s > 0 else 1.0,
            dt=rig.ask_dt_s,
        )
        self.form, self.memory = Form(FollowingColumns), Form(FollowingState)
        loops = tuple(
            (f"{n}_{part}", unit)
            for n, unit in (
                ("along_track", "m/s"),
                ("cross_track", "m/s" if self.settings.can_left else "rad/s"),
                ("heading", "rad/s"),
            )
            for part in "pid"
        )
        self.columns = named(
            "following", *COMMANDED, ("at_x", "m"), ("at_y", "m"), ("at_heading", "rad"),
            ("along_track", "m"), ("cross_track", "m"), ("heading_error", "rad"), *loops,
            ("correction_forward", "m/s"), ("correction_left", "m/s"), ("correction_turn", "rad/s"),
            ("forward", "m/s"), ("left", "m/s"), ("turn", "rad/s"),
        )  # fmt: skip

    @classmethod
    def of(cls, rig: Rig, inputs: Inputs) -> Following:
        return cls(rig)

    def place(self, layout: Layout) -> None:
        self.entry = layout.these("following", [n for n, _ in COMMANDED])

    # --- explanation ---

    def follows(self, tick: WheelTick) -> bool:
        """Return whether a plan is followed."""
        return tick("following", "mode") > 0

    def phrases(self, tick: WheelTick) -> list[str]:
        if not self.follows(tick):
            return []
        along, across = (tick("following", n) for n in ("along_track", "cross_track"))
        off = float(np.degrees(tick("following", "heading_error")))
        back = [tick("following", f"correction_{n}") for n in ("forward", "left")]
        turn = float(np.degrees(tick("following", "correction_turn")))
        if abs(back[0]) + abs(back[1]) < NOTHING and abs(turn) < NOTHING:
            return []
        return [
            f"{abs(along) * 100:.1f} cm {'behind' if along >= 0 else 'ahead of'} its plan, {abs(across) * 100:.1f} cm cross-track, "
            f"{abs(off):.1f} deg off: forward {back[0]:+.2f} m/s, left {back[1]:+.2f} m/s, {turning(turn)}"
        ]

    def rungs(self, tick: WheelTick) -> list[Rung]:
        if not self.follows(tick):
            return []
        n = {
            name: tick("following", name)
            for name in ("along_track", "cross_track", "correction_forward", "correction_left", "plan_forward")
        }
        off, plan_turn, back_turn, turn = (
            float(np.degrees(tick("following", name)))
            for name in ("heading_error", "plan_turn", "correction_turn", "turn")
        )
        text = (
            f"planned forward {n['plan_forward']:+.3f} m/s, turn {plan_turn:+.1f} deg/s; along-track {n['along_track']:+.3f} m, "
            f"cross-track {n['cross_track']:+.3f} m, heading {off:+.1f} deg: correction forward {n['correction_forward']:+.3f}, "
            f"left {n['correction_left']:+.3f} m/s, turn {back_turn:+.1f} deg/s → "
            f"forward {tick('following', 'forward'):+.3f} m/s, turn {turn:+.1f} deg/s"
        )
        return [Rung("follow", text, "following.cross_track.p")]
