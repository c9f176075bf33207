"""Attachments: motors by speed, motors to a position, servos and switches, beside the wheels. They obey requests."""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from pivrex.line.inputs import Inputs
from pivrex.line.layout import Layout, plain
from pivrex.line.pid import PidSettings, pid
from pivrex.line.stage import Floats, Stage, named, some
from pivrex.rig.attachments import ENCODED, PLACES, Encoded, ServoAttachment, SwitchAttachment, reach_of
from pivrex.rig.rig import Rig

__all__ = ["AttachmentSettings", "AttachmentState", "Attachments", "obey", "reached", "settings_of"]

Bools = NDArray[np.bool_]


@dataclass(frozen=True)
class AttachmentSettings:
    """A attachments, (A,) each.

    Attributes
    ----------
    motor, position, servo, switch : bool
        What each is.
    per_rad : float64
        How far it moves while the shaft of its encoder turns by a radian, in its unit.
    low, high : float64
        As far as it goes: rad, a lift m, or -1 to 1 of a motor, 0 to 1 of a switch.
    begin : float64
        Where it is at the start.
    safe : float64
        Where it goes when the robot is stopped; NaN for one that has no such place.
    holds : bool
        A position that is held against a load while the robot is stopped.
    step : float64
        How far a share of 1 moves it in a tick.
    ease : float64
        How far a servo may go in a tick; infinite for one that goes at once.
    loop : PidSettings
        The drive for what is missing, in rad or m; only of positions.
    dt_s : float
    """

    motor: Bools
    position: Bools
    servo: Bools
    switch: Bools
    per_rad: Floats
    low: Floats
    high: Floats
    begin: Floats
    safe: Floats
    holds: Bools
    step: Floats
    ease: Floats
    loop: PidSettings
    dt_s: float


class AttachmentState(NamedTuple):
    """What attachments remember, B + (A,) each: where they shall go, what they are told to be by now, and where the place that is
    called 0 lies by the encoder.
    """

    goal: Floats
    told: Floats
    zero: Floats


class Homing(NamedTuple):
    """How positions are homed in a tick, B + (A,) each, see `pivrex.line.asked`: driven at a share whatever their limits, 0 for
    none; whether each is where ``called`` says from now on.
    """

    push: Floats
    homed: Floats
    called: Floats


def reached(name: str, kind: str) -> str:
    """Return the column that says where an attachment with an encoder is."""
    return f"{name}_{'height' if kind == 'lift' else 'angle'}"


def settings_of(rig: Rig) -> AttachmentSettings:
    """Take the attachments from a rig."""
    each = list(rig.attachments.values())
    ranges = np.array([_range(a) for a in each]).reshape(-1, 7)
    low, high, begin, safe, rate, ease, gain = ranges.T.copy()
    motor, position, servo, switch = (
        np.array([a.kind in k for a in each], bool) for k in (("motor",), ENCODED, ("servo",), ("switch",))
    )
    none = np.zeros(len(each))
    return AttachmentSettings(
        motor=motor,
        position=position,
        servo=servo,
        switch=switch,
        per_rad=np.array([reach_of(a).per_rad if a.kind in PLACES else 1.0 for a in each]),
        low=low,
        high=high,
        begin=begin,
        safe=safe,
        holds=np.array([getattr(a, "safe", "") == "hold" for a in each], bool),
        step=rate * rig.dt_s,
        ease=ease * rig.dt_s,
        loop=PidSettings(
            p=gain,
            i=none,
            d=none,
            largest=np.array([getattr(a, "largest", 1.0) for a in each]),
            any_i=False,
            any_d=False,
        ),
        dt_s=rig.dt_s,
    )


def _range(a: object) -> tuple[float, float, float, float, float, float, float]:
    """Lowest, highest, first and safe value, rate of moving, rate of easing, gain."""
    match a:
        case Encoded():
            r = reach_of(a)
            return r.low, r.high, 0.0, np.nan, r.rate, np.inf, 1 / r.full_at
        case ServoAttachment():
            begin = a.start_rad if a.start_rad is not None else a.minimum_rad
            safe = a.safe_rad if a.safe_rad is not None else np.nan
            # one without a rate crosses its range in a second
            rate = a.rate_rad_s or a.maximum_rad - a.minimum_rad
            return a.minimum_rad, a.maximum_rad, begin, safe, rate, a.rate_rad_s or np.inf, 0.0
        case SwitchAttachment():
            # a lamp shows what it shows, stopped or not
            return 0.0, 1.0, float(a.start == "on"), np.nan if a.shows else float(a.safe == "on"), 0.0, np.inf, 0.0
    return -1.0, 1.0, 0.0, 0.0, 0.0, np.inf, 0.0


def obey(
    settings: AttachmentSettings,
    state: AttachmentState,
    requests: Floats,
    at: Floats,
    stop: Floats,
    homing: Homing | None = None,
) -> tuple[AttachmentState, Floats]:
    """Let a tick pass.

    Parameters
    ----------
    settings : AttachmentSettings
    state : AttachmentState
    requests : B + (A, 3) float64
        Of each: the share of its speed that is asked for (of a switch 1 while something holds it on); where it shall go
        from now on, NaN for nowhere new; by how much more (of a switch 1 to turn it over).
    at : B + (A,) float64
        Where positions are by their encoders, in rad, a lift in m.
    stop : B float64
        1 while the robot is stopped: each goes to its safe state.
    homing : Homing, optional

    Returns
    -------
    AttachmentState, B + (A,) float64
        The drives of those with a motor, in [-1, 1].

    Notes
    -----
    To a position: drive = clip((target - position)/full_at, -largest, largest), a loop in proportion. A position that
    is not held may have sunk while the robot was stopped: it starts again from where it is. (Own rules.)
    """
    s = settings
    zero, goal_was, told_was = state.zero, state.goal, state.told
    if homing is not None and some(homing.homed):
        new = np.where(homing.homed != 0, at - homing.called, zero)
        goal_was, told_was, zero = goal_was + zero - new, told_was + zero - new, new
    at = at - zero
    pushed = None
    if homing is not None and some(homing.push):  # it goes where it is driven, and stays there after that
        pushed = s.position & (homing.push != 0)
        goal_was, told_was = np.where(pushed, at, goal_was), np.where(pushed, at, told_was)
    share = np.minimum(np.maximum(requests[..., 0], -1.0), 1.0)
    to, by = requests[..., 1], requests[..., 2]
    goal = np.where((s.position | s.servo) & (share != 0), told_was + share * s.step, goal_was)
    goal = np.where(np.isnan(to), goal, to)
    goal = np.where(s.switch & (by != 0), 1.0 - goal, goal + np.where(s.switch, 0.0, by))
    goal = np.where(s.motor, share, np.minimum(np.maximum(goal, s.low), s.high))
    stopped = stop[..., None] != 0
    stops = bool(some(stop))
    placed = ~np.isnan(s.safe)
    if stops:
        goal = np.where(stopped & placed, s.safe, goal)
    eased = np.minimum(np.maximum(goal - told_was, -s.ease), s.ease)
    target = np.where(s.servo, np.where(np.isinf(s.ease), goal, told_was + eased), goal)
    target = np.where(s.switch, np.maximum(goal, share), target)
    if stops:
        resting = np.where(s.holds, told_was, np.minimum(np.maximum(at, s.low), s.high))
        rest = np.where(s.position, resting, np.where(s.servo & ~placed, told_was, target))
        rest = np.where((s.switch | s.motor) & placed, s.safe, rest)
        target = np.where(stopped, rest, target)
        goal = np.where(stopped & ~(s.servo & placed) & (placed | ~s.switch), target, goal)
    missing = target - at
    if stops:
        missing = np.where(stopped & ~s.holds, 0.0, missing)
    drive, _ = pid(s.loop, np.zeros(()), missing, 0.0, s.dt_s)
    drive = np.where(s.motor, np.minimum(np.maximum(target, -s.loop.largest), s.loop.largest), drive)
    if pushed is not None and homing is not None:
        force = np.minimum(np.maximum(homing.push, -s.loop.largest), s.loop.largest)
        free = pushed & ~stopped
        goal, target, drive = np.where(free, at, goal), np.where(free, at, target), np.where(free, force, drive)
    return AttachmentState(goal, target, zero), drive


class _Resting(NamedTuple):
    """A state that stays as it is while these bytes are asked of it, and the drives then."""

    state: AttachmentState
    asked: tuple[bytes, bytes, bytes]
    drive: Floats


class Attachments(Stage):
    """What each attachment is told to be, and the drive of those with a motor; where positions are, as they are called."""

    name = "attachments"
    reads: tuple[str, ...] = ("clock", "bindings")

    def __init__(self, rig: Rig) -> None:
        self._kinds = {plain(n): a.kind for n, a in rig.attachments.items()}
        units = {plain(n): reach_of(a).unit for n, a in rig.attachments.items() if a.kind in PLACES}
        self._resting: _Resting | None = None
        self.settings: AttachmentSettings = settings_of(rig)
        self.driven = [n for n, kind in self._kinds.items() if kind == "motor" or kind in ENCODED]
        self._arms = [n for n, kind in self._kinds.items() if kind in ENCODED]
        self.columns = named(
            "attachments",
            *((f"{n}_target", units.get(n, "")) for n in self._kinds),
            *((f"{n}_drive", "") for n in self.driven),
            *((reached(n, kind), units[n]) for n, kind in self._kinds.items() if kind in ENCODED),
        )
        self.kept_while = tuple(self._kinds.items())
        if self.settings.position.any():
            self.reads = ("clock", "sensed", "bindings", "routine")

    @classmethod
    def of(cls, rig: Rig, inputs: Inputs) -> Attachments | None:
        return cls(rig) if rig.attachments else None

    def place(self, layout: Layout) -> None:
        names = list(self._kinds)
        self.entry = layout.these("bindings", [f"{n}_{part}" for n in names for part in ("share", "to", "by")])
        arms = self._arms
        self._at = layout.these("sensed", [f"{n}_at" for n in arms])
        self._positions = np.flatnonzero(self.settings.position)
        self._per_rad = self.settings.per_rad[self._positions]
        self._reached = layout.these("attachments", [reached(n, self._kinds[n]) for n in arms])
        self._homing = layout.these("routine", [f"{n}_{what}" for what in ("push", "homed", "as") for n in arms])
        self._stopped = layout.at("clock", "stopped")
        self._targets = layout.these("attachments", [f"{n}_target" for n in names])
        self._drives = layout.these("attachments", [f"{n}_drive" for n in self.driven])
        self._with_motor = np.flatnonzero(self.settings.motor | self.settings.position)

    def start(self, batch: tuple[int, ...]) -> AttachmentState:
        begin = np.broadcast_to(self.settings.begin, (*batch, len(self.settings.begin)))
        return AttachmentState(begin, begin, np.zeros_like(begin))

    def step(self, state: AttachmentState, row: Floats) -> AttachmentState:
        requests = row[..., self.entry].reshape((*row.shape[:-1], -1, 3))
        at = np.zeros(requests.shape[:-1])
        at[..., self._positions] = row[..., self._at] * self._per_rad
        asked = row[..., self._homing]
        homing = self._spread(asked, requests) if some(asked) else None
        after, drive = self._obeyed(state, requests, at, row[..., self._stopped], homing)
        row[..., self._reached] = (at - after.zero)[..., self._positions]
        row[..., self._targets] = after.told
        row[..., self._drives] = drive[..., self._with_motor]
        return after

    def _obeyed(
        self, state: AttachmentState, requests: Floats, at: Floats, stop: Floats, homing: Homing | None
    ) -> tuple[AttachmentState, Floats]:
        """Like `obey`; what is asked again of attachments that it has brought to rest is not reckoned again."""
        if homing is not None:
            return obey(self.settings, state, requests, at, stop, homing)
        asked, resting = (requests.tobytes(), at.tobytes(), stop.tobytes()), self._resting
        if resting is not None and resting.state is state and resting.asked == asked:
            return state, resting.drive
        after, drive = obey(self.settings, state, requests, at, stop)
        if all(a.shape == b.shape and a.tobytes() == b.tobytes() for a, b in zip(after, state, strict=True)):
            self._resting = _Resting(state, asked, drive)
            return state, drive
        return after, drive

    def _spread(self, asked: Floats, requests: Floats) -> Homing:
        """Give how positions are homed, among all attachments."""
        whole = np.zeros((*requests.shape[:-2], 3, requests.shape[-2]))
        whole[..., self._positions] = asked.reshape((*asked.shape[:-1], 3, len(self._positions)))
        return Homing(whole[..., 0, :], whole[..., 1, :], whole[..., 2, :])
