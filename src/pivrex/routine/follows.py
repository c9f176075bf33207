"""Paths that routines follow: a plan as a table of its ticks, the plan's clock, and the end of the path."""

from __future__ import annotations

from math import ceil, cos, sin

import numpy as np

from pivrex.kernels.maths import hypot, inf, nan
from pivrex.kernels.records import Flag, Form, Number, Numbers, Record, Whole, field
from pivrex.kernels.subset import kernel
from pivrex.line.following import AGAIN, BEGINS, HERE, IN_PLACE, FollowingColumns
from pivrex.line.line import Line
from pivrex.line.stage import Floats
from pivrex.path.plan import Plan
from pivrex.routine.profile import STEADY_S, Command, ProfileState, is_over

__all__ = ["PlanSettings", "PlanState", "PlanTable", "Plans", "ask_plan", "feel_plan"]

NEAR_M = 0.008
PATIENCE_S = 1.5
"""At a plan's end the robot stands at most so long until it is where it should be."""

BLIND_TICKS = 2
FOUND = 0.25
"""A lost robot has found back when it is this share of what makes it lost from its plan."""

FEWEST = 1024
"""A table has room for so many ticks at first."""


class PlanSettings(Record):
    """How a rig follows plans: its tick and its lag in s, the distance from its plan at which it is lost, in m, whether it waits
    then, and how near it must look to its heading, in rad.
    """

    is_settings = True

    dt: Number = field(unit="s")
    lag: Number = field(unit="s")
    lost: Number = field(unit="m")
    waits_when_lost: Flag = field()
    tolerance: Number = field(unit="rad")


class PlanTable(Record):
    """All plans that are followed, tick after tick: where the robot should be by now, x and y in m, heading and direction in rad, the
    motion of the tick's middle in m/s and rad/s, and the way in m.
    """

    is_settings = True

    tick: Numbers = field("planned", 8)


class PlanState(Record):
    """One robot's plan.

    Attributes
    ----------
    first, length : where it stands in the table, in ticks
    k, t : of the plan's clock, in ticks and s
    time : how long it takes, in s
    most : the way at which it is over, in m
    mode : see `pivrex.line.following.COMMANDED`
    forward_counts, back_counts : whether the planned motion counts, and whether the corrections do
    waits, lost, away : whether the plan waits, whether its robot is lost, and how far from it, in m
    """

    first: Whole = field()
    length: Whole = field()
    k: Whole = field()
    t: Number = field(unit="s")
    time: Number = field(unit="s")
    most: Number = field(unit="m")
    mode: Number = field()
    forward_counts: Number = field()
    back_counts: Number = field()
    waits: Flag = field()
    lost: Flag = field()
    away: Number = field(unit="m")


@kernel
def row_of(v: PlanState) -> int:
    """Return the row of the table that counts in this tick: the last once the plan has ended."""
    return v.first + min(v.k, v.length - 1)


@kernel
def feel_plan(s: PlanSettings, p: PlanTable, m: ProfileState, v: PlanState, errors: Numbers) -> bool:
    """Take in how far the robot is from its plan; returns whether it has come to its end, or is lost."""
    if not m.planned or v.t < (BLIND_TICKS - 0.5) * s.dt:
        return False
    away = hypot(errors[0], errors[1])
    if v.waits:
        v.waits = away > FOUND * s.lost
    elif away > s.lost:
        v.waits, v.lost, v.away = s.waits_when_lost, not s.waits_when_lost, away
    ended = v.t > v.time + s.lag and not v.waits
    over = is_over(m, ended, away < NEAR_M and abs(errors[2]) < s.tolerance, s.dt, STEADY_S, PATIENCE_S)
    gone = v.most < inf and p.tick[row_of(v)][7] >= v.most
    return over or v.lost or gone


@kernel
def ask_plan(
    s: PlanSettings, p: PlanTable, m: ProfileState, v: PlanState, command: Command, out: FollowingColumns
) -> None:
    """Ask for the planned motion of a tick, where there is a plan.

    Notes
    -----
    The motion is that of the tick's middle; the robot follows with the rig's lag τ, so it is held to where the plan was τ ago.
    """
    if not m.planned:
        return
    row = p.tick[row_of(v)]
    out.mode, out.feeds_forward, out.feeds_back = v.mode, v.forward_counts, v.back_counts
    out.waits = 1.0 if v.waits else 0.0
    out.x, out.y, out.heading, out.angle = row[0], row[1], row[2], row[3]
    for i in range(3):
        out.plan[i] = 0.0 if v.waits else row[4 + i]
        command.twist[i] = out.plan[i] * v.forward_counts
    command.aim = nan
    if not v.waits:
        v.t += s.dt
        v.k = v.k + 1
    v.mode = AGAIN if v.mode in (HERE, AGAIN) else IN_PLACE


class Plans:
    """All plans that the robots of a line follow."""

    def __init__(self, line: Line) -> None:
        c, self._dt, self._lag = line.rig.correction, line.dt_s, line.rig.lag_s
        following = line.rig.following
        self.settings: PlanSettings = Form(PlanSettings).of(
            dt=line.dt_s,
            lag=line.rig.lag_s,
            lost=following.lost_m,
            waits_when_lost=following.when_lost == "wait",
            tolerance=c.tolerance_rad if c is not None else 0.02,
        )
        self.table: PlanTable = Form(PlanTable, planned=0).start()
        self._used = 0
        self._known: dict[tuple[int, bool], tuple[Plan, int, int]] = {}

    def begun(self, plan: Plan, here: bool, max_m: float, feeds: tuple[bool, bool] = (True, True)) -> dict[str, float]:
        """Return the state of a robot that begins a plan: where it lies, or from where the robot stands; at most so far. ``feeds`` says
        whether the planned motion counts, and whether the corrections do.
        """
        key = (id(plan), here)
        if key not in self._known:
            self._known[key] = (plan, *self._added(self._ticks(plan, here)))
        _, first, length = self._known[key]
        return {
            "first": first, "length": length, "k": 0, "t": 0.0, "time": plan.time_s, "most": max_m,
            "mode": HERE if here else BEGINS, "forward_counts": feeds[0], "back_counts": feeds[1],
            "waits": 0.0,
        }  # fmt: skip

    def _ticks(self, plan: Plan, here: bool) -> Floats:
        t: Floats = self._dt * np.arange(ceil((plan.time_s + self._lag) / self._dt) + 3, dtype=np.float64)
        now, by_now = plan.at(t + self._dt / 2), plan.at(t - self._lag)
        x, y, heading, angle = by_now.x, by_now.y, by_now.heading, by_now.angle
        if here:
            x0, y0, h0 = plan.poses[0]
            c, s = cos(h0), sin(h0)
            dx, dy = x - x0, y - y0
            x, y, heading, angle = c * dx + s * dy, c * dy - s * dx, heading - h0, angle - h0
        motion = [np.where(t < plan.time_s, v, 0.0) for v in (now.forward, now.left, now.turn)]
        return np.stack((x, y, heading, angle, *motion, plan.at(t).s), axis=-1)

    def _added(self, ticks: Floats) -> tuple[int, int]:
        """Put ticks behind all others; returns where they stand, and how many they are."""
        first, end = self._used, self._used + len(ticks)
        if end > len(self.table.tick):
            larger: PlanTable = Form(PlanTable, planned=FEWEST << (end // FEWEST).bit_length()).start()
            larger.tick[:first] = self.table.tick[:first]
            self.table = larger
        self.table.tick[first:end] = ticks
        self.table.forget_plain()
        self._used = end
        return first, len(ticks)
