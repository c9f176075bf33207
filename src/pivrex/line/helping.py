"""Helping: what a button lets the robot do for its driver while it is held, by where it believes to be. The driver's stick always wins."""

from __future__ import annotations

from dataclasses import dataclass
from math import nan, pi
from typing import NamedTuple

import numpy as np

from pivrex.line.inputs import Inputs
from pivrex.line.layout import Layout
from pivrex.line.stage import Floats, Rung, Stage, named, some
from pivrex.line.told import NOTHING, Told, turning
from pivrex.line.values import Ops, Value, joined, ops_of, parts
from pivrex.rig.actions import FACE, LINE, POSE, SNAP, Action
from pivrex.rig.rig import Rig
from pivrex.units import wrap_deg

__all__ = ["Help", "Helping", "HelpingSettings", "HelpingState", "helps_of"]

TOUCHES = 1e-6
"""A motion above this is the driver's: then there is no help."""

THERE_RAD, THERE_M = 0.005, 0.004
NEAR_M = 0.03
SHARE = 0.6
ASIDE = 0.1
"""What is asked for across a line, as a share of what is asked for along it, is no wish of the driver: it may come of turning."""

AHEAD_RAD = 0.6
"""A two-sided robot that looks further aside of its place turns first."""


class Help(NamedTuple):
    """One help: its kind, of `SNAP`, `FACE`, `LINE` and `POSE`, and its numbers, in m and rad; see `pivrex.rig.actions`."""

    kind: str
    numbers: tuple[float, ...]


@dataclass(frozen=True)
class HelpingSettings:
    """How a rig helps.

    Attributes
    ----------
    helps : tuple of Help
    aside : bool
        Whether it moves any way.
    p, p_across, p_along : float
        Of the heading, across and along, in 1/s.
    rise, turn_rise : float
        In m/s² and rad/s²: it comes to rest with no more.
    most, most_turn : float
        In m/s and rad/s.
    bend_across, bend_heading : float
        Of a two-sided robot that keeps a line, in 1/m² and 1/m.
    """

    helps: tuple[Help, ...]
    aside: bool
    p: float
    p_across: float
    p_along: float
    rise: float
    turn_rise: float
    most: float
    most_turn: float
    bend_across: float
    bend_heading: float


class HelpingState(NamedTuple):
    """What is remembered: which help was given, B, from 1, 0 for none; and where the robot was when it began, B + (3,)."""

    which: Floats
    since: Floats


def helps_of(actions: list[Action]) -> tuple[Help, ...]:
    """Give the helps that actions ask for, each once, in their order."""
    return tuple(dict.fromkeys(Help(a.target, a.numbers) for a in actions if a.verb == "help"))


class Helping(Stage):
    """For rigs with a binding that helps."""

    name = "helping"
    reads: tuple[str, ...] = ("bindings", "odometry", "law", "frame")

    def __init__(self, rig: Rig, helps: tuple[Help, ...]) -> None:
        f = rig.following
        self.settings: HelpingSettings = HelpingSettings(
            helps=helps,
            aside=rig.chassis.geometry.can(np.array([0.0, 1.0, 0.0])),
            p=f.heading.p, p_across=f.across.p, p_along=f.along.p,
            rise=f.acceleration_m_s2, turn_rise=0.7 * f.turn_rise_rad_s2,
            most=SHARE * rig.full_forward_m_s, most_turn=SHARE * rig.full_turn_rad_s,
            bend_across=4.0 * f.across.p, bend_heading=f.heading.p,
        )  # fmt: skip
        self.columns = named(
            "helping", ("which", ""), ("target", "rad"), ("off", "rad"), ("across", "m"), ("away", "m"),
            ("forward", "m/s"), ("left", "m/s"), ("turn", "rad/s"),
        )  # fmt: skip
        self.kept_while = helps
        self._kinds = {SNAP: self._snap, FACE: self._face, LINE: self._line, POSE: self._drive}

    @classmethod
    def of(cls, rig: Rig, inputs: Inputs) -> Helping | None:
        helps = helps_of([p.action for p in inputs.patches if p.action is not None])
        return cls(rig, helps) if helps else None

    def place(self, layout: Layout) -> None:
        before = "frame" if layout.has("frame", "turn") else "law"
        self._in = layout.these(before, ("forward", "left", "turn"))
        self._out, self._motion = layout.stage("helping"), layout.these("helping", ("forward", "left", "turn"))
        self._which = layout.at("bindings", "help")
        self._entered = layout.at("law", "entered")
        self._pose = layout.these("odometry", ("x", "y", "heading"))

    def start(self, batch: tuple[int, ...]) -> HelpingState:
        return HelpingState(np.zeros(batch), np.zeros((*batch, 3)))

    def step(self, state: HelpingState, row: Floats) -> HelpingState:
        asked = row[..., self._which] * (row[..., self._entered] == 0)
        if not some(asked) and not some(state.which):
            row[..., self._motion] = row[..., self._in]
            return state
        batch = row.shape[:-1]
        o = ops_of(batch)
        pose, motion = row[..., self._pose], parts(row[..., self._in])
        since = np.where((asked != state.which)[..., None], pose, state.since)
        which = asked.item() if not batch else asked
        told: list[Value] = [0.0 * motion[0] + nan, *(0.0 * motion[0] for _ in range(3)), *motion]
        for k, one in enumerate(self.settings.helps):
            mask = which == k + 1
            if o.some(mask):
                made = self._kinds[one.kind](o, one.numbers, parts(pose), parts(since), motion)
                told = [o.where(mask, new, old) for new, old in zip(made, told, strict=True)]
        row[..., self._out] = joined((which, *told), batch)
        return HelpingState(asked.copy(), since)

    # --- each kind: target, off, across, away, forward, left, turn ---

    def _turned(self, o: Ops, off: Value, moves: Value = 0.0) -> Value:
        """Give the turn that takes an error of the heading away, and comes to rest there; ``moves``: how fast its target turns."""
        s = self.settings
        size = abs(off)
        fast = o.least(o.least(s.p * size, o.sqrt(2 * s.turn_rise * size)), s.most_turn)
        return moves + o.where(size < THERE_RAD, 0.0, o.where(off < 0, -fast, fast))

    def _looked(self, o: Ops, target: Value, pose: list[Value], motion: list[Value], moves: Value = 0.0) -> list[Value]:
        off = (target - pose[2] + pi) % (2 * pi) - pi
        free = abs(motion[2]) < TOUCHES
        turn = o.where(free, self._turned(o, off, moves), motion[2])
        return [target, off, 0.0 * off, 0.0 * off, motion[0], motion[1], turn]

    def _snap(
        self, o: Ops, numbers: tuple[float, ...], pose: list[Value], since: list[Value], motion: list[Value]
    ) -> list[Value]:
        """Turn to the nearest of chosen headings: those that were nearest when it began."""
        step, *angles = numbers
        heading = since[2]
        if step:
            target = _round(heading / step) * step
        else:
            target, best = heading, 10.0 + 0.0 * heading
            for angle in angles:
                off = (angle - heading + pi) % (2 * pi) - pi
                nearer = abs(off) < best
                target, best = o.where(nearer, heading + off, target), o.where(nearer, abs(off), best)
        return self._looked(o, target, pose, motion)

    def _face(
        self, o: Ops, numbers: tuple[float, ...], pose: list[Value], since: list[Value], motion: list[Value]
    ) -> list[Value]:
        """Look at a place, wherever it is driven; the turn that its own motion makes necessary is known beforehand."""
        dx, dy = numbers[0] - pose[0], numbers[1] - pose[1]
        away2 = dx * dx + dy * dy
        far = away2 > NEAR_M * NEAR_M
        c, n = o.turned(pose[2])
        vx, vy = c * motion[0] - n * motion[1], n * motion[0] + c * motion[1]
        moves = o.where(far, (vx * dy - vy * dx) / o.most(away2, NEAR_M * NEAR_M), 0.0)
        made = self._looked(o, o.where(far, _bearing(dy, dx), pose[2]), pose, motion, moves)
        made[3] = o.sqrt(away2)
        return made

    def _line(
        self, o: Ops, numbers: tuple[float, ...], pose: list[Value], since: list[Value], motion: list[Value]
    ) -> list[Value]:
        """Keep the line through where it began, along where it looked then."""
        s = self.settings
        c, n = o.turned(since[2])
        across = c * (pose[1] - since[1]) - n * (pose[0] - since[0])
        off = (since[2] - pose[2] + pi) % (2 * pi) - pi
        free = abs(motion[2]) < TOUCHES
        if not s.aside:
            speed = motion[0]
            cos_off, sin_off = o.turned(off)
            turn = o.within(
                -speed * s.bend_across * across * cos_off + abs(speed) * s.bend_heading * sin_off, s.most_turn
            )
            turn = o.where(free, turn, motion[2])
            return [since[2], off, across, abs(across), motion[0], motion[1], turn]
        a, b = o.turned(-off)  # the line's directions, seen from the robot
        asks = a * motion[1] + b * motion[0]  # what the driver asks for across it
        along = a * motion[0] - b * motion[1]
        keeps = abs(asks) < TOUCHES + ASIDE * abs(along)
        back = o.where(free & keeps, o.within(-s.p_across * across, s.most), 0.0)
        turn = o.where(free, self._turned(o, off), motion[2])
        return [since[2], off, across, abs(across), motion[0] + b * back, motion[1] + a * back, turn]

    def _drive(
        self, o: Ops, numbers: tuple[float, ...], pose: list[Value], since: list[Value], motion: list[Value]
    ) -> list[Value]:
        """Drive to a place, and look as it says; without a heading as it looks."""
        s = self.settings
        dx, dy = numbers[0] - pose[0], numbers[1] - pose[1]
        away = o.sqrt(dx * dx + dy * dy)
        free = (abs(motion[0]) + abs(motion[1]) < TOUCHES) & (abs(motion[2]) < TOUCHES)
        facing = numbers[2] if len(numbers) > 2 else since[2]
        off = (facing - pose[2] + pi) % (2 * pi) - pi
        fast = o.least(o.least(s.p_along * away, o.sqrt(2 * s.rise * away)), s.most)
        fast = o.where(away < THERE_M, 0.0, fast)
        c, n = o.turned(pose[2])
        ahead, aside = c * dx + n * dy, c * dy - n * dx
        safe = o.most(away, 1e-9)
        if s.aside:
            made = [fast * ahead / safe, fast * aside / safe, self._turned(o, off)]
        else:
            near = away < NEAR_M
            bearing = o.where(near, off if len(numbers) > 2 else 0.0 * off, _bearing(aside, ahead))
            cos_b, _ = o.turned(bearing)
            goes = o.where(near | (abs(bearing) > AHEAD_RAD), 0.0, fast * cos_b)
            made = [goes, 0.0 * goes, self._turned(o, bearing)]
        out = [o.where(free, m, d) for m, d in zip(made, motion, strict=True)]
        return [facing + 0.0 * away, off, 0.0 * away, away, *out]

    # --- what it tells ---

    def helps(self, told: Told) -> Help | None:
        """Give the help that is given."""
        which = int(told("helping", "which"))
        return self.settings.helps[which - 1] if which else None

    def _words(self, told: Told, one: Help) -> str:
        off = abs(float(np.degrees(told("helping", "off"))))
        away, across = told("helping", "away"), told("helping", "across")
        target = wrap_deg(float(np.degrees(told("helping", "target")))) if one.kind != POSE else 0.0
        place = ", ".join(f"{v:.2f} m" for v in one.numbers[:2])
        return {
            SNAP: f"snaps to {target:.0f} deg, {off:.1f} deg off",
            FACE: f"faces {place}, {off:.1f} deg off",
            LINE: f"keeps the line, {abs(across) * 100:.1f} cm off",
            POSE: f"drives to {place}, {away:.2f} m away",
        }[one.kind]

    def _changes(self, told: Told) -> str:
        forward, left = (told("helping", n) for n in ("forward", "left"))
        turn = float(np.degrees(told("helping", "turn")))
        return f"forward {forward:+.2f} m/s, left {left:+.2f} m/s, {turning(turn)}"

    def phrases(self, told: Told) -> list[str]:
        one = self.helps(told)
        before = "frame" if told.line.layout.has("frame", "turn") else "law"
        same = all(abs(told("helping", n) - told(before, n)) < NOTHING for n in ("forward", "left", "turn"))
        return [] if one is None or same else [f"{self._words(told, one)}: {self._changes(told)}"]

    def rungs(self, told: Told) -> list[Rung]:
        one = self.helps(told)
        return (
            []
            if one is None
            else [Rung("help", f"{self._words(told, one)} → {self._changes(told)}", "following.heading.p")]
        )


def _round(value: Value) -> Value:
    return np.round(value) if isinstance(value, np.ndarray) else float(round(value))


def _bearing(y: Value, x: Value) -> Value:
    found = np.arctan2(y, x)
    return found if isinstance(found, np.ndarray) else float(found)
