"""Following: a planned motion, and what brings a robot back onto its plan: three errors, each with a loop of its own."""

from __future__ import annotations

from dataclasses import dataclass
from math import exp, nan, pi
from typing import NamedTuple

import numpy as np

from pivrex.line.inputs import Inputs
from pivrex.line.layout import Layout
from pivrex.line.pid import LoopSettings, loop
from pivrex.line.se2 import along
from pivrex.line.stage import Floats, Rung, Stage, named, some
from pivrex.line.told import NOTHING, Told, turning
from pivrex.line.values import Ops, Value, joined, ops_of, parts
from pivrex.rig.following import Loop
from pivrex.rig.rig import Rig

__all__ = ["AGAIN", "ASKED", "BEGINS", "HERE", "IN_PLACE", "Following", "FollowingSettings", "FollowingState"]

IN_PLACE, HERE, AGAIN, BEGINS = 1.0, 2.0, 3.0, 4.0
"""How a plan is meant: where it lies on the field; from where the robot stands, beginning now; and going on so; where it lies on the
field, beginning now. A plan that begins remembers nothing of the plan before it.
"""

ASKED = (
    ("mode", ""), ("feeds_forward", ""), ("feeds_back", ""), ("waits", ""), ("x", "m"), ("y", "m"), ("heading", "rad"),
    ("angle", "rad"), ("plan_forward", "m/s"), ("plan_left", "m/s"), ("plan_turn", "rad/s"),
)  # fmt: skip
"""What somebody who follows a plan asks for in a tick: its mode, 0 for none; whether the planned motion, and the corrections, count;
whether the plan waits for the robot; where the robot should be by now, the path's direction there; and the planned motion of a robot
that looks as planned.
"""

SLOWEST_M_S = 0.25
"""A two-sided robot's heading is corrected as if it were at least so fast."""

ACROSS_OF_TURNING = 4.0
"""What p of across counts, in 1/m², where turning does it."""

SHARE = 0.5
"""The most that is given back, as a share of full."""

NEAR_M = 0.03


@dataclass(frozen=True)
class FollowingSettings:
    """How a rig follows.

    Attributes
    ----------
    aside : bool
        Whether it moves any way; else it corrects across through turning.
    along, across, heading : LoopSettings
    bend_across, bend_heading : float
        The gains of the tracking law, in 1/m² and 1/m.
    most_turn : float
        In rad/s.
    follows : float
        How much of what is asked the wheels do within a tick.
    dt_s : float
    """

    aside: bool
    along: LoopSettings
    across: LoopSettings
    heading: LoopSettings
    bend_across: float
    bend_heading: float
    most_turn: float
    follows: float
    dt_s: float


class FollowingState(NamedTuple):
    """What is remembered.

    Attributes
    ----------
    pose : B + (3,) float64
        Where it is since it began a plan from where it stood.
    added : B + (3,) float64
        The parts of I of the three loops.
    errors : B + (3,) float64
        The errors before, NaN before there were any.
    turn : B + (1,) float64
        How fast it should turn by now, after the lag of its wheels, in rad/s.
    """

    pose: Floats
    added: Floats
    errors: Floats
    turn: Floats


class Following(Stage):
    """For every rig; idle unless somebody enters a plan.

    Its loops go by the odometry of the same tick. That hangs on sensors, so whoever enters a plan must make ticks one at a time.
    """

    name = "following"
    reads: tuple[str, ...] = ("law", "frame", "helping")

    def __init__(self, rig: Rig) -> None:
        f = rig.following

        def gains(of: Loop, most: float) -> LoopSettings:
            return LoopSettings(p=of.p, i=of.i, d=of.d, clamp=most, memory=1.0, largest=most)

        speed, turn = SHARE * rig.full_forward_m_s, SHARE * rig.full_turn_rad_s
        self.settings: FollowingSettings = FollowingSettings(
            aside=rig.chassis.geometry.can(np.array([0.0, 1.0, 0.0])),
            along=gains(f.along, speed),
            across=gains(f.across, speed),
            heading=gains(f.heading, turn),
            bend_across=ACROSS_OF_TURNING * f.across.p,
            bend_heading=f.heading.p,
            most_turn=turn,
            follows=1.0 - exp(-rig.dt_s / rig.lag_s) if rig.lag_s > 0 else 1.0,
            dt_s=rig.dt_s,
        )
        loops = tuple(
            (f"{n}_{part}", unit)
            for n, unit in (
                ("along", "m/s"),
                ("across", "m/s" if self.settings.aside else "rad/s"),
                ("heading", "rad/s"),
            )
            for part in "pid"
        )
        self.columns = named(
            "following", *ASKED, ("at_x", "m"), ("at_y", "m"), ("at_heading", "rad"), ("along", "m"), ("across", "m"), ("off", "rad"),
            *loops, ("back_forward", "m/s"), ("back_left", "m/s"), ("back_turn", "rad/s"),
            ("forward", "m/s"), ("left", "m/s"), ("turn", "rad/s"),
        )  # fmt: skip

    @classmethod
    def of(cls, rig: Rig, inputs: Inputs) -> Following:
        return cls(rig)

    def place(self, layout: Layout) -> None:
        before = next(s for s in ("helping", "frame", "law") if layout.has(s, "turn"))
        self._in = layout.these(before, ("forward", "left", "turn"))
        self._out = layout.stage("following")
        self.entry = layout.these("following", [n for n, _ in ASKED])
        self._motion = layout.these("following", ("forward", "left", "turn"))
        self._mode = layout.at("following", "mode")
        seen = [("odometry", n) for n in ("x", "y", "heading", "forward", "left", "turn")]
        self._seen = np.array([layout.at(*place) for place in seen], np.intp)

    def start(self, batch: tuple[int, ...]) -> FollowingState:
        none = np.zeros((*batch, 3))
        return FollowingState(none, none, np.full((*batch, 3), nan), np.zeros((*batch, 1)))

    def step(self, state: FollowingState, row: Floats) -> FollowingState:
        batch = row.shape[:-1]
        if not some(row[..., self._mode]):
            row[..., self._motion] = row[..., self._in]
            return self.start(batch)
        o = ops_of(batch)
        asked, motion, seen = (parts(row[..., k]) for k in (self.entry, self._in, self._seen))
        mode = asked[0]
        follows, begins = mode > 0, (mode == HERE) | (mode == BEGINS)
        pose = self._where(o, mode, parts(state.pose), seen)
        should = o.where(begins, 0.0, parts(state.turn)[0])
        added = [o.where(begins, 0.0, a) for a in parts(state.added)]
        before = [o.where(begins, nan, e) for e in parts(state.errors)]
        rate = should - seen[5] / self.settings.dt_s
        after, told, given = self._corrected(o, asked, pose, added, before, rate)
        out = [o.where(follows, g, m) for g, m in zip(given, motion, strict=True)]
        told = [o.where(follows, v, 0.0) for v in told]
        row[..., self._out] = joined((*asked, *told, *out), batch)
        errors = [o.where(follows, e, nan) for e in after[1]]
        added = [o.where(follows, a, 0.0) for a in after[0]]
        wants = given[2] - told[-4] - told[-5]
        should = o.where(follows, should + (wants - should) * self.settings.follows, 0.0)
        return FollowingState(joined(pose, batch), joined(added, batch), joined(errors, batch), joined([should], batch))

    @staticmethod
    def _where(o: Ops, mode: Value, was: list[Value], seen: list[Value]) -> list[Value]:
        """Give where robots are, in their plan's directions: on the field, or from where they stood when they began."""
        x, y, heading = was
        along_x, along_y = along(heading, *seen[3:])
        own = (x + along_x, y + along_y, heading + seen[5])
        begins, again = mode == HERE, mode == AGAIN
        return [o.where(again, a, o.where(begins, 0.0, b)) for a, b in zip(own, seen[:3], strict=True)]

    def _corrected(
        self, o: Ops, asked: list[Value], pose: list[Value], added: list[Value], before: list[Value], rate: Value
    ) -> tuple[tuple[list[Value], list[Value]], list[Value], list[Value]]:
        """Give what is remembered, what is told, and the motion.

        Notes
        -----
        A robot that moves any way is brought back by a loop for each error, along and across the path's direction and of the
        heading. A two-sided one by v = v_r·cos e_h + k₁·e_x, ω = ω_r + v_r·k₂·e_y + |v_r|·k₃·sin e_h with the errors ahead of it,
        left of it, and of its heading: a tracking law whose errors do not grow, by L = (e_x² + e_y²)/2 + (1 - cos e_h)/k₂,
        L' = -k₁·e_x² - |v_r|·k₃/k₂·sin² e_h (Kanayama, Kimura, Miyazaki & Noguchi 1990). What it turns slower than it should, because
        tyres are dragged, the heading's i adds up (an inner loop on the rate), and its d adds at once.
        """
        s, dt = self.settings, self.settings.dt_s
        _, ahead, back, waits, x, y, heading, angle, plan_forward, plan_left, plan_turn = asked
        dx, dy = x - pose[0], y - pose[1]
        off = (heading - pose[2] + pi) % (2 * pi) - pi
        c, n = o.turned(angle)
        along, across = c * dx + n * dy, c * dy - n * dx
        errors = [along, across, off]
        rates = [o.where(b == b, (e - b) / dt, 0.0) for e, b in zip(errors, before, strict=True)]  # noqa: PLR0124
        on = back > 0
        forward, left, turn = plan_forward * ahead, plan_left * ahead, plan_turn * ahead
        cos_off, sin_off = o.turned(off)
        if s.aside:
            loops = (s.along, s.across, s.heading)
            told = [loop(o, k, a, e, r, dt) for k, a, e, r in zip(loops, added, errors, rates, strict=True)]
            p, i, d, given = ([o.where(on, t[k], 0.0) for t in told] for k in range(4))
            a, b = o.turned(angle - pose[2])
            forward, left = cos_off * forward - sin_off * left, sin_off * forward + cos_off * left
            own = [a * given[0] - b * given[1], b * given[0] + a * given[1], given[2]]
        else:
            c, n = o.turned(pose[2])
            nose, aside = c * dx + n * dy, c * dy - n * dx
            first = loop(o, s.along, added[0], nose, rates[0], dt)
            speed = abs(plan_forward)
            # a plan that waits is driven to: towards where the robot should be, or, near it, turned as it should look
            far = (waits > 0) & (nose * nose + aside * aside > NEAR_M * NEAR_M)
            bearing = o.where(far, self._bearing(nose, aside), off)
            by_across = o.where(far, 0.0, plan_forward * s.bend_across * aside)
            _, sine = o.turned(bearing)
            by_heading = o.most(speed, SLOWEST_M_S) * s.bend_heading * sine
            zero = 0.0 * along
            p = [o.where(on, v, 0.0) for v in (first[0], by_across, by_heading)]
            lacks = o.within(added[2] + s.heading.i * rate * dt, s.most_turn)
            i = [o.where(on, v, 0.0) for v in (first[1], zero, lacks)]
            d = [o.where(on, v, 0.0) for v in (first[2], zero, s.heading.d * rate)]
            forward = o.where(on, forward * cos_off, forward)
            bends = o.within(by_across + by_heading + i[2] + d[2], s.most_turn)
            own = [o.where(on, first[3], 0.0), zero, o.where(on, bends, 0.0)]
        pid = [v for three in zip(p, i, d, strict=True) for v in three]
        made = [forward + own[0], left + own[1], turn + own[2]]
        return (i, errors), [*pose, *errors, *pid, *own], made

    @staticmethod
    def _bearing(nose: Value, aside: Value) -> Value:
        return np.arctan2(aside, nose) if isinstance(nose, np.ndarray) else float(np.arctan2(aside, nose))

    # --- what it tells ---

    def follows(self, told: Told) -> bool:
        """Tell whether a plan is followed."""
        return told("following", "mode") > 0

    def phrases(self, told: Told) -> list[str]:
        if not self.follows(told):
            return []
        along, across = (told("following", n) for n in ("along", "across"))
        off = float(np.degrees(told("following", "off")))
        back = [told("following", f"back_{n}") for n in ("forward", "left")]
        turn = float(np.degrees(told("following", "back_turn")))
        if abs(back[0]) + abs(back[1]) < NOTHING and abs(turn) < NOTHING:
            return []
        return [
            f"{abs(along) * 100:.1f} cm {'behind' if along >= 0 else 'ahead of'} its plan, {abs(across) * 100:.1f} cm aside, "
            f"{abs(off):.1f} deg off: forward {back[0]:+.2f} m/s, left {back[1]:+.2f} m/s, {turning(turn)}"
        ]

    def rungs(self, told: Told) -> list[Rung]:
        if not self.follows(told):
            return []
        n = {name: told("following", name) for name in ("along", "across", "back_forward", "back_left", "plan_forward")}
        off, plan_turn, back_turn, turn = (
            float(np.degrees(told("following", name))) for name in ("off", "plan_turn", "back_turn", "turn")
        )
        text = (
            f"planned forward {n['plan_forward']:+.3f} m/s, turn {plan_turn:+.1f} deg/s; along {n['along']:+.3f} m, "
            f"across {n['across']:+.3f} m, heading {off:+.1f} deg: back forward {n['back_forward']:+.3f}, left {n['back_left']:+.3f} m/s, "
            f"turn {back_turn:+.1f} deg/s → forward {told('following', 'forward'):+.3f} m/s, turn {turn:+.1f} deg/s"
        )
        return [Rung("follow", text, "following.across.p")]
