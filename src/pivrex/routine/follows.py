"""Paths that routines follow, tick by tick, for one robot or many: the plan's clock, and when its robot has come to its end."""

from __future__ import annotations

from math import cos, hypot, sin

import numpy as np

from pivrex.line.following import AGAIN, ASKED, BEGINS, HERE, IN_PLACE
from pivrex.line.line import Line
from pivrex.line.stage import Floats
from pivrex.path.plan import Plan

__all__ = ["Follows"]

NEAR_M = 0.008
STEADY_S = 0.1
PATIENCE_S = 1.5
"""At a plan's end the robot stands at most so long until it is where it should be."""

BLIND_TICKS = 2
FOUND = 0.25
"""A lost robot has found back when it is this share of what makes it lost from its plan."""


class Follows:
    """At most one plan of each robot.

    Notes
    -----
    In each tick the planned motion of the tick's middle is asked for; the robot follows with the rig's lag τ, so it is held to where the
    plan was τ ago.
    """

    def __init__(self, line: Line, batch: tuple[int, ...]) -> None:
        self._batch, self._dt, self._lag = batch, line.dt_s, line.rig.lag_s
        self._settings = line.rig.following
        c = line.rig.correction
        self._tolerance = c.tolerance_rad if c is not None else 0.02
        count = batch[0] if batch else 1
        self._plans: list[Plan | None] = [None] * count
        self._t = np.zeros(count)
        self._near, self._rests = np.zeros(count), np.zeros(count)
        self._mode = np.zeros(count)
        self._waits = np.zeros(count, bool)
        self._most: Floats = np.full(count, np.inf)
        self._lost: dict[int, str] = {}
        self._errors = np.array([line.layout.at("following", n) for n in ("along", "across", "off")], np.intp)
        self._any = False
        self._feeds = np.ones((count, 2))

    def copied(self) -> Follows:
        """Give a copy that goes its own way."""
        made = Follows.__new__(Follows)
        made.__dict__.update(self.__dict__)
        made._plans, made._lost = list(self._plans), dict(self._lost)
        for name in ("_t", "_near", "_rests", "_mode", "_waits", "_most", "_feeds"):
            setattr(made, name, getattr(self, name).copy())
        return made

    def begin(self, i: int, plan: Plan, here: bool, most_m: float, feeds: tuple[bool, bool] = (True, True)) -> None:
        """Begin a plan of one robot: where it lies, or from where the robot stands; at most so far. ``feeds`` says whether the planned
        motion counts, and whether the corrections do.
        """
        self._feeds[i] = feeds
        self._plans[i], self._any = plan, True
        self._t[i] = self._near[i] = self._rests[i] = 0.0
        self._waits[i], self._mode[i], self._most[i] = False, HERE if here else BEGINS, most_m

    def active(self, i: int) -> bool:
        """Whether one robot follows a plan."""
        return self._plans[i] is not None

    def lost(self, i: int) -> str:
        """Why one robot is lost, empty while it is not."""
        return self._lost.get(i, "")

    def heading(self, i: int) -> float | None:
        """Give the heading on the field at which one robot's plan ends; None for one that lies elsewhere."""
        plan = self._plans[i]
        return float(plan.looks.heading[-1]) if plan is not None and self._mode[i] in (IN_PLACE, BEGINS) else None

    def end(self, i: int) -> None:
        """End the plan of one robot."""
        self._plans[i], self._mode[i] = None, 0.0
        self._any = any(p is not None for p in self._plans)

    def feel(self, row: Floats) -> np.ndarray:
        """Take in a Tick, B + (K,); gives which robots have come to the end of their plan, or are lost, (N,) bool."""
        done = np.zeros(len(self._plans), bool)
        if not self._any:
            return done
        seen = row[..., self._errors].reshape(-1, 3)
        for i, plan in enumerate(self._plans):
            if plan is None or self._t[i] < (BLIND_TICKS - 0.5) * self._dt:
                continue
            along, across, off = seen[i].tolist()
            away, f = hypot(along, across), self._settings
            if self._waits[i]:
                self._waits[i] = away > FOUND * f.lost_m
            elif away > f.lost_m and f.when_lost == "wait":
                self._waits[i] = True
            elif away > f.lost_m:
                self._lost[i] = f"is {away:.2f} m from its path, and lost (following.lost is {f.lost_m:g} m)"
            over = self._t[i] > plan.time_s + self._lag
            near = over and away < NEAR_M and abs(off) < self._tolerance
            self._near[i] = self._near[i] + self._dt if near else 0.0
            self._rests[i] = self._rests[i] + self._dt if over and not self._waits[i] else 0.0
            done[i] = self._near[i] > STEADY_S or self._rests[i] > PATIENCE_S or i in self._lost or self._gone(plan, i)
        return done

    def _gone(self, plan: Plan, i: int) -> bool:
        return bool(np.isfinite(self._most[i])) and float(plan.at(self._t[i]).s) >= self._most[i]

    def command(self) -> tuple[Floats, Floats] | None:
        """Give what is asked for in this tick, batch + (3,) and batch + (11,), see `ASKED`; None if nobody follows anything."""
        if not self._any:
            return None
        twist, asked = np.zeros((len(self._plans), 3)), np.zeros((len(self._plans), len(ASKED)))
        groups: dict[int, list[int]] = {}
        for i, plan in enumerate(self._plans):
            if plan is not None:
                groups.setdefault(id(plan), []).append(i)
        for members in groups.values():
            plan = self._plans[members[0]]
            assert plan is not None
            self._ask(plan, np.array(members), twist, asked)
        return (twist, asked) if self._batch else (twist[0], asked[0])

    def _ask(self, plan: Plan, at: np.ndarray, twist: Floats, asked: Floats) -> None:
        """Ask for a plan's motion, of the robots that follow it."""
        t = self._t[at]
        now, by_now = plan.at(t + self._dt / 2), plan.at(t - self._lag)
        moves = np.where(self._waits[at], 0.0, np.where(t < plan.time_s, 1.0, 0.0))
        x, y, heading, angle = by_now.x, by_now.y, by_now.heading, by_now.angle
        here = (self._mode[at] == HERE) | (self._mode[at] == AGAIN)
        if here.any():
            x0, y0, h0 = plan.poses[0]
            c, s = cos(h0), sin(h0)
            dx, dy = x - x0, y - y0
            x, y = np.where(here, c * dx + s * dy, x), np.where(here, c * dy - s * dx, y)
            heading, angle = np.where(here, heading - h0, heading), np.where(here, angle - h0, angle)
        motion = np.stack((now.forward, now.left, now.turn), axis=-1) * moves[:, None]
        twist[at] = motion * self._feeds[at, :1]
        rest = (self._mode[at], *self._feeds[at].T, self._waits[at])
        for k, value in enumerate((*rest, x, y, heading, angle, *motion.T)):
            asked[at, k] = value
        self._t[at] = np.where(self._waits[at], t, t + self._dt)
        self._mode[at] = np.where(here, AGAIN, IN_PLACE)
