"""Bindings: what buttons, letters and bits do, tick by tick."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from pivrex.line.levels import PRESSED
from pivrex.rig.patches import Patch, patches_of
from pivrex.rig.rig import Rig

__all__ = ["FLAGS", "BindingSettings", "BindingState", "Orders", "act", "settings_of", "start"]

Floats = NDArray[np.float64]
Bools = NDArray[np.bool_]

HELD, PRESS, TOGGLE, COUNTED = range(4)

FLAGS = ("slow", "brake", "coast", "stop", "shut_down", "record")
"""The columns of a Tick beside the motion that is asked for."""


@dataclass(frozen=True)
class BindingSettings:
    """N bindings.

    Attributes
    ----------
    patches : tuple of Patch
    channel, other : (N,) int
        The channel of each, and the button that must be held beside it, -1 for none.
    way : (N,) int
        HELD, PRESS, TOGGLE or COUNTED.
    presses, within : (N,) float64
        Of a counted one: on which press, and the longest time between two, in s.
    letter : (N,) bool
        Whether the channel is a letter, which says that it came again by another number.
    beaten : (N, N) bool
        Which plain binding a combination keeps from acting.
    dt_s : float
    motions : (M,) int
        Those that move the robot.
    twist, bound, rise, fall, against : of the motions
        (M, 3) fractions of full; what they grow to; rates in 1/s, 0 for at once; (M, M) those of the opposite way.
    of : dict of str to tuple of int
        The bindings of each verb that is not a motion.
    """

    patches: tuple[Patch, ...]
    channel: NDArray[np.intp]
    other: NDArray[np.intp]
    way: NDArray[np.intp]
    presses: Floats
    within: Floats
    letter: Bools
    beaten: Bools
    dt_s: float
    motions: NDArray[np.intp]
    twist: Floats
    bound: Floats
    rise: Floats
    fall: Floats
    against: Bools
    of: dict[str, tuple[int, ...]]


class BindingState(NamedTuple):
    """What bindings remember, B + (N,) each: whether they were active, what their channel read, toggles, spent presses,
    counts and the time since the last press; of motions, B + (M,), how far they have grown; and whether any of all this
    may still change by itself.
    """

    active: Bools
    read: Floats
    on: Bools
    spent: Bools
    presses: Floats
    since: Floats
    grown: Floats
    busy: bool


class Orders(NamedTuple):
    """What bindings ask for in this tick.

    Attributes
    ----------
    on, fired : B + (N,) bool
        What lasts, and what is done once, in this tick.
    twist : B + (3,)
        The motion as fractions of full.
    flags : B + (6,)
        As `FLAGS` names them; slow is the share of speed that is left.
    idle : bool
        Whether nothing at all is asked for.
    """

    on: Bools
    fired: Bools
    twist: Floats
    flags: Floats
    idle: bool = False


@lru_cache
def _nothing(bindings: int, batch: tuple[int, ...]) -> Orders:
    no = np.zeros((*batch, bindings), bool)
    flags = np.zeros((*batch, len(FLAGS)))
    flags[..., 0] = 1.0
    return Orders(no, no, np.zeros((*batch, 3)), flags, idle=True)


def settings_of(rig: Rig, inputs: list[tuple[str, str]]) -> BindingSettings | None:
    """Take the bindings from a rig; None if it has none. ``inputs`` are the line's (source, channel) pairs."""
    lit = {name for name, a in rig.attachments.items() if a.kind == "switch" and a.shows}
    patches = tuple(
        p
        for p in patches_of(rig)
        if p.deed is not None and p.deed.verb != "follow" and not (p.source == "session" and p.deed.target in lit)
    )
    if not patches:
        return None

    def place(source: str, channel: str) -> int:
        return inputs.index((source, channel))

    n = len(patches)
    beaten = np.zeros((n, n), bool)
    way, presses, within, other = [], np.zeros(n), np.full(n, 1e9), []
    for i, p in enumerate(patches):
        b = p.binding
        said = b.when if b is not None else ""
        lasts = p.deed is not None and p.deed.lasts
        way.append(
            COUNTED
            if b is not None and b.presses
            else TOGGLE
            if said == "toggle"
            else PRESS
            if said == "press" or not lasts
            else HELD
        )
        presses[i] = b.presses if b is not None else 0
        within[i] = b.within_s if b is not None else 1e9
        other.append(place(p.source, b.with_) if b is not None and b.with_ else -1)
        for j, q in enumerate(patches):
            beaten[i, j] = (
                other[i] >= 0 and not (q.binding and q.binding.with_) and (q.source, q.channel) == (p.source, p.channel)
            )
    motions = tuple(i for i, p in enumerate(patches) if p.deed is not None and p.deed.verb == "motion")
    deeds = [p.deed for p in patches]
    verbs = {d.verb for d in deeds if d is not None}
    twist = np.array([deeds[i].twist for i in motions]).reshape(-1, 3)  # type: ignore[union-attr]
    bindings = [patches[i].binding for i in motions]
    return BindingSettings(
        patches=patches,
        channel=np.array([place(p.source, p.channel) for p in patches], np.intp),
        other=np.array(other, np.intp),
        way=np.array(way, np.intp),
        presses=presses,
        within=within,
        letter=np.array([p.channel.startswith("letter ") for p in patches]),
        beaten=beaten,
        dt_s=rig.dt_s,
        motions=np.array(motions, np.intp),
        twist=twist,
        bound=np.array([deeds[i].value for i in motions]),  # type: ignore[union-attr]
        rise=np.array([b.rise_per_s if b is not None else 0.0 for b in bindings]),
        fall=np.array([b.fall_per_s if b is not None else 0.0 for b in bindings]),
        against=np.array([[(a * b < 0).any() for b in twist] for a in twist], bool).reshape(len(motions), len(motions)),
        of={v: tuple(i for i, d in enumerate(deeds) if d is not None and d.verb == v) for v in verbs},
    )


def start(settings: BindingSettings, batch: tuple[int, ...]) -> BindingState:
    """Give the state before the first tick."""
    no = np.zeros((*batch, len(settings.patches)), bool)
    zero = np.zeros((*batch, len(settings.patches)))
    # nothing counts as pressed before it has been seen released
    return BindingState(~no, zero, no, no, zero, zero, np.zeros((*batch, len(settings.motions))), True)


def act(settings: BindingSettings, state: BindingState, raw: Floats, stop: Floats) -> tuple[BindingState, Orders]:
    """Let a tick pass.

    Parameters
    ----------
    settings : BindingSettings
    state : BindingState
    raw : B + (R,) float64
        All channels of the line; NaN counts as not pressed.
    stop : B float64
        1 while the robot is stopped: then toggles fall off, motions end, and nothing but level, stop and record acts.

    Returns
    -------
    BindingState, Orders

    Notes
    -----
    A combination beats the plain bindings of its button until that button is let go, also when the other button is let
    go before it. A motion grows by rise·dt up to its share and falls by fall·dt; with the opposite one pressed it is
    zero at once, so that the opposite one starts from zero. (Own rules.)
    """
    read = raw[..., settings.channel]
    pressed = read >= PRESSED
    if not state.busy and not np.count_nonzero(pressed):
        return state._replace(read=read, since=state.since + settings.dt_s), _nothing(len(settings.patches), stop.shape)
    besides = np.where(settings.other >= 0, raw[..., settings.other] >= PRESSED, True)
    active = pressed & besides
    beaten = (active[..., :, None] & settings.beaten).any(axis=-2)
    spent = pressed & (state.spent | beaten)
    active = active & ~spent
    fresh = active & (~state.active | (settings.letter & (read != state.read)))
    stopped = stop[..., None] != 0
    on = np.where(settings.way == TOGGLE, (state.on ^ fresh) & ~stopped, active)
    since = np.where(fresh, 0.0, state.since + settings.dt_s)
    count = np.where(fresh, np.where(state.since > settings.within, 1.0, state.presses + 1), state.presses)
    reached = fresh & (settings.way == COUNTED) & (count >= settings.presses)
    count = np.where(reached, 0.0, count)
    fired = np.where(settings.way == COUNTED, reached, fresh)
    lasting = on & ((settings.way == HELD) | (settings.way == TOGGLE))

    moving = lasting[..., settings.motions] & ~stopped
    grown = np.where(
        moving,
        np.where(
            settings.rise > 0, np.minimum(settings.bound, state.grown + settings.rise * settings.dt_s), settings.bound
        ),
        np.where(settings.fall > 0, np.maximum(0.0, state.grown - settings.fall * settings.dt_s), 0.0),
    )
    crossed = (moving[..., :, None] & settings.against).any(axis=-2)
    grown = np.where(stopped | (crossed & ~moving), 0.0, grown)
    twist = np.minimum(np.maximum((grown[..., :, None] * settings.twist).sum(axis=-2), -1.0), 1.0)

    flags = np.zeros((*stop.shape, len(FLAGS)))
    flags[..., 0] = 1.0
    for i in settings.of.get("slow", ()):
        deed = settings.patches[i].deed
        assert deed is not None
        flags[..., 0] = np.where(lasting[..., i], np.minimum(flags[..., 0], deed.value), flags[..., 0])
    for k, verb in ((1, "brake"), (2, "coast")):
        for i in settings.of.get(verb, ()):
            flags[..., k] = np.maximum(flags[..., k], lasting[..., i])
    for k, verb in ((3, "stop"), (4, "shut down"), (5, "record")):
        for i in settings.of.get(verb, ()):
            flags[..., k] = np.maximum(flags[..., k], fired[..., i])
    kept = on & (settings.way == TOGGLE)
    busy = bool(np.count_nonzero(pressed) or np.count_nonzero(kept) or np.count_nonzero(grown))
    after = BindingState(active, read, kept, spent, count, since, grown, busy)
    return after, Orders(lasting, fired, twist, flags)


def walk_levels(settings: BindingSettings, orders: Orders, level: Floats, names: list[str]) -> Floats:
    """Give the speed level's index, B, after what was asked for."""
    for i in settings.of.get("level", ()):
        level = np.where(orders.fired[..., i], float(names.index(_target(settings, i))), level)
    for i in settings.of.get("walk", ()):
        step = 1.0 if _target(settings, i) == "up" else -1.0
        level = np.where(orders.fired[..., i], np.minimum(np.maximum(level + step, 0.0), len(names) - 1.0), level)
    return level


def turn_frame(
    settings: BindingSettings, orders: Orders, field: Floats, zero: Floats, point: Floats, heading: Floats, points: int
) -> tuple[Floats, Floats, Floats]:
    """Give the frame (1 field), its zero heading and the turning point, B each, after what was asked for."""
    for i in settings.of.get("frame", ()):
        target = _target(settings, i)
        wanted = 1.0 - field if target == "other" else float(target == "field")
        field = np.where(orders.fired[..., i], wanted, field)
    for i in settings.of.get("heading", ()):
        zero = np.where(orders.fired[..., i], heading, zero)
    for i in settings.of.get("point", ()):
        point = np.where(orders.fired[..., i], (point + 1) % points, point)
    return field, zero, point


def _target(settings: BindingSettings, i: int) -> str:
    deed = settings.patches[i].deed
    assert deed is not None
    return deed.target
