"""Correction: what the gyro says is missing is added to the turn. It holds a heading, or follows one that moves."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from math import exp, nan, pi
from typing import NamedTuple

import numpy as np

from pivrex.line.given import Given
from pivrex.line.inputs import Inputs
from pivrex.line.kinematics import kinematics_of
from pivrex.line.layout import Layout, plain
from pivrex.line.pid import LoopSettings, loop
from pivrex.line.stage import Floats, Rung, Stage, named, some
from pivrex.line.told import NOTHING, Told, turning
from pivrex.line.values import Ops, Value, joined, ops_of, parts, single, whole
from pivrex.rig.correction import Correction as CorrectionTable
from pivrex.rig.rig import Rig
from pivrex.units import wrap_deg

__all__ = ["FAULTS", "NEVER", "Aim", "Correction", "CorrectionSettings", "CorrectionState", "settings_of"]

NEVER = "never"
"""In the place of ``hold`` for a line in which nobody can ask for it: what leaves then hangs on no sensor."""

TOUCHES = 1e-6
"""A turn above this, in rad/s, is the driver's: the heading is let go."""

FAULTS = (
    "",
    "the gyro counts the other way than the robot turns: the correction would turn it in circles; gyro.reversed mends it",
    "nothing is heard of the gyro",
    "the gyro's heading jumped: the heading is caught anew",
)
"""What may be wrong with the gyro, by the number in the Tick. The first two put an end to the correction."""

REVERSED, SILENT, JUMPED = 1.0, 2.0, 3.0

NOTICES_S = 0.3
"""So long a gyro must count against the wheels before it counts as reversed: longer than a knock lasts."""

CLEARLY_RAD_S = 0.25
"""Turns slower than this tell nothing about the gyro's way."""

JUMP_RAD_S = 35.0
"""No robot turns this fast (2000 deg/s): a gyro that says so has jumped."""


@dataclass(frozen=True)
class CorrectionSettings:
    """The heading loop. Gains and limits in rad/s for rad; see `pivrex.rig.correction`.

    Attributes
    ----------
    outer : LoopSettings
    inner_p, inner_i : float
        The loop of the rate behind it; both 0 without one.
    smooth : float
        How much of a newly measured rate counts.
    settled : float
    on : float
        Whether it holds at the start.
    dt_s : float
    """

    outer: LoopSettings
    inner_p: float
    inner_i: float
    smooth: float
    settled: float
    on: float
    dt_s: float


class CorrectionState(NamedTuple):
    """What is remembered, B each.

    Attributes
    ----------
    on : 1 while the heading is held when the driver does not turn.
    target : the heading that is held, rad; NaN while none is.
    heading : the last one, rad; NaN before the first.
    rate : measured, averaged, rad/s.
    added, inner : the parts of I of both loops, rad/s.
    given : the turn that was asked for last, rad/s.
    against : for how long the gyro has counted against the wheels, s.
    """

    on: Floats
    target: Floats
    heading: Floats
    rate: Floats
    added: Floats
    inner: Floats
    given: Floats
    against: Floats


def settings_of(rig: Rig) -> CorrectionSettings:
    """Take the loop from a rig."""
    c = rig.correction or CorrectionTable()
    return CorrectionSettings(
        outer=LoopSettings(
            p=c.p_per_s,
            i=c.i,
            d=c.d,
            clamp=c.clamp_rad_s,
            memory=exp(-rig.dt_s / c.forget_s) if c.forget_s else 1.0,
            largest=c.largest_rad_s,
        ),
        inner_p=c.rate.p,
        inner_i=c.rate.i,
        smooth=rig.dt_s / (rig.dt_s + c.filter_s),
        settled=c.settled_rad_s,
        on=float(c.hold == "on"),
        dt_s=rig.dt_s,
    )


class Aim(Given):
    """The heading that somebody beside the driver asks for, and how fast it moves: none, unless one enters and says so."""

    name = "aim"
    columns = named("aim", ("heading", "rad"), ("rate", "rad/s"), ("entered", ""))

    @classmethod
    def of(cls, rig: Rig, inputs: Inputs) -> Aim | None:
        return cls() if rig.gyro is not None and rig.correction is not None else None

    def place(self, layout: Layout) -> None:
        self.entry, self.entered = layout.these("aim", ("heading", "rate")), layout.at("aim", "entered")


class Correction(Stage):
    """For rigs with a gyro and a table for it: the motion of the centre with the turn corrected.

    Notes
    -----
    With e the wrapped error and w the rate at which the target moves: turn = w + clip(p·e + i·∫e + d·(w - measured)). In a
    cascade that sum is a wanted rate r, and the turn is w + clip(r - w + p'·(r - measured) + i'·∫(r - measured)). The same limit
    holds for all that is added, and neither integral grows while it would push further into it. (Åström & Murray, Feedback
    Systems, ch. 11.)
    """

    name = "correction"

    def __init__(self, rig: Rig) -> None:
        self._rig = rig
        self.settings: CorrectionSettings = settings_of(rig)
        idle = rig.correction is not None and str(rig.correction.hold) == NEVER
        self._idle = idle and not any(b.does.strip() == "hold heading" for b in rig.bindings)
        self.reads = (
            ("clock", "following") if self._idle else ("clock", "sensed", "following", "heading", "aim", "bindings")
        )
        self._cascade = bool(np.any(self.settings.inner_p) or np.any(self.settings.inner_i))
        inner = [("rate_p", "rad/s"), ("rate_i", "rad/s")] if self._cascade else []
        self.columns = named(
            "correction", ("on", ""), ("target", "rad"), ("error", "rad"), ("rate", "rad/s"), ("p", "rad/s"),
            ("i", "rad/s"), ("d", "rad/s"), *inner, ("given", "rad/s"), ("fault", ""),
            ("forward", "m/s"), ("left", "m/s"), ("turn", "rad/s"),
        )  # fmt: skip

    @classmethod
    def of(cls, rig: Rig, inputs: Inputs) -> Correction | None:
        return cls(rig) if rig.gyro is not None and rig.correction is not None else None

    def place(self, layout: Layout) -> None:
        self._in = layout.these("following", ("forward", "left", "turn"))
        self._out = layout.stage("correction")
        self._motion = layout.these("correction", ("forward", "left", "turn"))
        places = (("heading", "heading"), ("aim", "heading"), ("aim", "rate"), ("aim", "entered"), ("clock", "stopped"))
        self._seen = np.array([layout.at(*place) for place in places], np.intp)
        self._speeds = layout.these("sensed", [f"{plain(w.name)}_speed" for w in self._rig.chassis.wheels])
        self._felt = [] if self._idle else _felt_turn(self._rig)
        """What each wheel's speed adds to the turn that the wheels feel; nothing where they cannot say."""
        self._toggle = layout.at("bindings", "holding") if layout.has("bindings", "holding") else -1

    def start(self, batch: tuple[int, ...]) -> CorrectionState:
        none, unknown = np.zeros(batch), np.full(batch, np.nan)
        return CorrectionState(np.full(batch, self.settings.on), unknown, unknown, none, none, none, none, none)

    def keep(self, other: Stage, state: CorrectionState, batch: tuple[int, ...]) -> CorrectionState:
        """A changed gain changes nothing of what is held; a changed start does."""
        same = other.settings.on == self.settings.on
        return state if same else state._replace(on=np.full(batch, self.settings.on))

    def hold(self, state: CorrectionState, on: bool) -> CorrectionState:
        """Give the state in which headings are held, or no more."""
        return self.start(state.on.shape)._replace(
            on=np.full_like(state.on, float(on)), heading=state.heading, rate=state.rate
        )

    def step(self, state: CorrectionState, row: Floats) -> CorrectionState:
        motion = row[..., self._in]
        if self._idle:
            row[..., self._motion] = motion
            row[..., self._out.start + 1] = np.nan
            return state
        batch = row.shape[:-1]
        o = ops_of(batch)
        forward, left, asked = parts(motion)
        heading, aim, moves, aimed, stopped = parts(row[..., self._seen])
        if self._toggle >= 0 and some(row[..., self._toggle]):
            on = np.where(row[..., self._toggle] > 0, 1.0 - state.on, state.on)
            state = state._replace(on=on)
        was = CorrectionState(*(single(v) for v in state))
        turns = was.given
        if self._felt:
            speeds = parts(row[..., self._speeds])
            turns = speeds[self._felt[0][0]] * self._felt[0][1]
            for w, share in self._felt[1:]:
                turns = turns + speeds[w] * share
        after, told = self._corrected(o, was, (heading, aim, moves, aimed, stopped, turns), asked)
        row[..., self._out] = joined((*told, forward, left, after.given), batch)
        return CorrectionState(*(whole(v, batch) for v in after))

    def run(self, state: CorrectionState, rows: Floats, counts: Sequence[bool]) -> CorrectionState:
        return self.step(state, rows) if self._idle else super().run(state, rows, counts)

    def _corrected(
        self, o: Ops, was: CorrectionState, seen: tuple[Value, ...], asked: Value
    ) -> tuple[CorrectionState, tuple[Value, ...]]:
        """Give the state after a tick, and what is told of it: all columns before the motion."""
        s = self.settings
        heading, aim, moves, aimed, stopped, turns = seen
        rate, fault = self._measured(o, was, heading)
        free = (abs(asked) > TOUCHES) | (was.on == 0)
        caught = o.where(was.target == was.target, was.target, o.where(abs(rate) < s.settled, heading, nan))
        target = o.where(aimed > 0, aim, o.where(free, nan, caught))
        target = o.where((stopped != 0) | (fault > 0), nan, target)
        held = target == target  # noqa: PLR0124 - NaN is not itself
        wrong = held & (abs(rate) > CLEARLY_RAD_S) & (abs(turns) > CLEARLY_RAD_S) & (rate * turns < 0)
        against = o.where(wrong, was.against + s.dt_s, 0.0)
        lies = against > NOTICES_S
        fault = o.where(lies, REVERSED, fault)
        target = o.where(lies, nan, target)
        on = o.where((fault == REVERSED) | (fault == SILENT), 0.0, was.on)
        held = target == target  # noqa: PLR0124 - NaN is not itself
        error = o.where(held, (target - heading + pi) % (2 * pi) - pi, 0.0)
        wanted = o.where(aimed > 0, moves, 0.0)
        braking = o.where(held, wanted - rate, 0.0)
        p, i, d, given = loop(o, s.outer, o.where(held, was.added, 0.0), error, braking, s.dt_s)
        inner: tuple[Value, ...] = ()
        added = o.where(held, was.inner, 0.0)
        if self._cascade:
            kept, most = o.where(held, was.added, 0.0) * s.outer.memory, s.outer.largest
            tried = given + s.inner_p * (wanted + given - rate) + added
            i = o.where((abs(tried) > most) & ((i - kept) * tried > 0), kept, i)
            given = o.within(p + i + d, most)
            missing = o.where(held, wanted + given - rate, 0.0)
            push = s.inner_p * missing
            grown = o.within(added + s.inner_i * missing * s.dt_s, most)
            tried = given + push + grown
            added = o.where((abs(tried) > most) & ((grown - added) * tried > 0), added, grown)
            inner = (push, added)
            given = o.within(given + push + added, most)
        given = o.where(held, given, 0.0)
        after = CorrectionState(on, target, heading, rate, i, added, asked + given, against)
        return after, (on, target, error, rate, p, i, d, *inner, given, fault)

    def _measured(self, o: Ops, was: CorrectionState, heading: Value) -> tuple[Value, Value]:
        """Give the measured rate of turn, averaged, and what is wrong with the gyro."""
        s = self.settings
        silent = heading != heading  # noqa: PLR0124 - NaN is not itself
        fresh = was.heading != was.heading
        now = o.where(fresh, 0.0, (heading - was.heading) / s.dt_s)
        jumped = abs(now) > JUMP_RAD_S
        rate = o.where(silent | jumped, was.rate, was.rate + (now - was.rate) * s.smooth)
        return rate, o.where(silent, SILENT, o.where(jumped, JUMPED, 0.0))

    # --- what it tells ---

    def corrects(self, told: Told) -> bool:
        """Tell whether it changes the turn."""
        return abs(told("correction", "given")) > NOTHING

    def phrases(self, told: Told) -> list[str]:
        if not self.corrects(told):
            return []
        error, given = (float(np.degrees(told("correction", n))) for n in ("error", "given"))
        return [f"heading {abs(error):.1f} deg off: {turning(given)}"]

    def rungs(self, told: Told) -> list[Rung]:
        fault = int(told("correction", "fault"))
        if fault:
            return [
                Rung(
                    "correct",
                    f"let go → turn {self._deg(told, 'turn'):+.1f} deg/s",
                    "gyro.reversed",
                    f"! {FAULTS[fault]}",
                )
            ]
        if not self.corrects(told):
            return []
        names = ("p", "i", "d", *(("rate_p", "rate_i") if self._cascade else ()))
        parts = ", ".join(f"{n.replace('_', ' ')} {self._deg(told, n):+.1f}" for n in names)
        target = wrap_deg(float(np.degrees(told("correction", "target"))))
        text = (
            f"target {target:+.1f} deg, error {self._deg(told, 'error'):+.1f} deg, rate {self._deg(told, 'rate'):+.1f} deg/s: "
            f"{parts} → {self._deg(told, 'given'):+.1f} deg/s"
        )
        full = abs(told("correction", "given")) > 0.999 * self.settings.outer.largest
        return [Rung("correct", text, "correction.p", "! at its largest" if full else "")]

    @staticmethod
    def _deg(told: Told, name: str) -> float:
        return float(np.degrees(told("correction", name)))


def _felt_turn(rig: Rig) -> list[tuple[int, float]]:
    """Give how much of a turn each wheel's speed means, in rad/s for each m/s; nothing for a robot without encoders, or with
    steered wheels: there what was asked of the wheels must do.
    """
    maps = kinematics_of(rig.chassis)
    if maps.hubs is not None or any(not m.counts_per_turn for m in rig.motors.values()) or rig.upside_down is not None:
        return []
    return [(w, float(share)) for w, share in enumerate(maps.forward[2]) if share]
