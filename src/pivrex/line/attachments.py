"""Attachments: motors by speed, motors to a position, servos and switches, beside the wheels."""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from pivrex.line.bindings import HELD, TOGGLE, BindingSettings, Orders
from pivrex.line.layout import Column, plain
from pivrex.line.levels import PRESSED
from pivrex.line.outputs import Value, values_of
from pivrex.rig.attachments import MotorAttachment, PositionAttachment, ServoAttachment, SwitchAttachment
from pivrex.rig.patches import patches_of, target_rad
from pivrex.rig.rig import Rig

__all__ = ["AttachmentSettings", "AttachmentState", "act", "columns", "deflection", "settings_of", "start"]

Floats = NDArray[np.float64]


class AttachmentState(NamedTuple):
    """What attachments remember, B + (A,) each: where they shall go, and what they are told to be by now."""

    goal: Floats
    told: Floats


class Follow(NamedTuple):
    """A stick that an attachment follows: its channel, its range as centre and half width, its dead band."""

    channel: int
    centre: float
    half: float
    edge: float
    sign: float


@dataclass(frozen=True)
class One:
    """An attachment with all that acts on it.

    ``speeds`` are pairs of a binding and its share; ``tos`` and ``bys`` of a binding and an angle in rad; ``held`` are
    bindings that switch it on while they last, ``sets`` pairs of a binding and the state that it leaves behind, and
    ``toggles`` turn it over; ``shows`` is the input whose state a lamp shows, -1 for none. ``driver`` is what its values
    are made from: rest, forward, backward, whole, direction.
    """

    name: str
    kind: str
    low: float
    high: float
    begin: float
    safe: float | None
    rate: float
    gain: float
    largest: float
    sign: float
    sensed: int
    follows: tuple[Follow, ...]
    speeds: tuple[tuple[int, float], ...]
    tos: tuple[tuple[int, float], ...]
    bys: tuple[tuple[int, float], ...]
    held: tuple[int, ...]
    sets: tuple[tuple[int, float], ...]
    toggles: tuple[int, ...]
    driver: tuple[tuple[float, float, float, bool, bool], ...]
    holds: bool
    shows: int


@dataclass(frozen=True)
class AttachmentSettings:
    """All attachments of a rig, and the values that leave for them."""

    each: tuple[One, ...]
    values: tuple[Value, ...]
    dt_s: float


def settings_of(
    rig: Rig, inputs: list[tuple[str, str]], bound: BindingSettings | None, sensed: dict[str, int]
) -> AttachmentSettings | None:
    """Take the attachments from a rig; None if it has none. ``sensed`` is the place of each one's position."""
    if not rig.attachments:
        return None
    made, leaving = [], []
    for name, a in rig.attachments.items():
        deeds = (
            [(i, p.deed) for i, p in enumerate(bound.patches) if p.deed is not None and p.deed.target == name]
            if bound
            else []
        )
        follows = []
        for p in patches_of(rig):
            if p.deed is not None and p.deed.verb == "follow" and p.deed.target == name and p.binding is not None:
                axis = rig.axis_of(p.source, p.channel)
                low, high = axis.centre or ((axis.minimum + axis.maximum) / 2,) * 2
                one_sided = axis.minimum == 0
                centre = axis.minimum if one_sided else (low + high) / 2
                half = max(axis.maximum - centre, 1e-9)
                # pushed away reads less, as in the axes; a trigger rests at its end
                sign = (
                    (1.0 if one_sided else -1.0)
                    * (-1.0 if p.binding.reversed else 1.0)
                    * (-1.0 if axis.reversed else 1.0)
                )
                follows.append(Follow(inputs.index((p.source, p.channel)), centre, half, p.binding.edge, sign))
        driver, named = _driver(name, a)
        leaving += named
        low, high, begin, safe, rate, gain = _range(a)
        made.append(
            One(
                name=name,
                kind=a.kind,
                low=low,
                high=high,
                begin=begin,
                safe=safe,
                rate=rate,
                gain=gain,
                largest=getattr(a, "largest", 1.0),
                sign=-1.0 if getattr(a, "reversed", False) else 1.0,
                sensed=sensed.get(name, -1),
                follows=tuple(follows),
                speeds=tuple((i, d.value) for i, d in deeds if d.verb == "speed"),
                tos=tuple((i, target_rad(rig, d)) for i, d in deeds if d.verb == "to"),
                bys=tuple((i, target_rad(rig, d)) for i, d in deeds if d.verb == "by"),
                held=tuple(
                    i for i, d in deeds if d.verb == "on" and bound is not None and bound.way[i] in (HELD, TOGGLE)
                ),
                sets=tuple(
                    (i, float(d.verb == "on"))
                    for i, d in deeds
                    if d.verb in ("on", "off") and bound is not None and bound.way[i] not in (HELD, TOGGLE)
                ),
                toggles=tuple(i for i, d in deeds if d.verb == "toggle"),
                driver=driver,
                holds=getattr(a, "safe", "") == "hold",
                shows=inputs.index(("session", a.shows)) if a.kind == "switch" and a.shows else -1,
            )
        )
    return AttachmentSettings(tuple(made), tuple(leaving), rig.dt_s)


def _range(a: object) -> tuple[float, float, float, float | None, float, float]:
    """Lowest, highest, first and safe value, rate and gain."""
    match a:
        case PositionAttachment():
            return a.minimum_rad, a.maximum_rad, 0.0, None, a.top_speed_rad_s, 1 / a.full_at_rad
        case ServoAttachment():
            begin = a.start_rad if a.start_rad is not None else a.minimum_rad
            return a.minimum_rad, a.maximum_rad, begin, a.safe_rad, a.rate_rad_s, 0.0
        case SwitchAttachment():
            # a lamp shows what it shows, stopped or not
            return 0.0, 1.0, float(a.start == "on"), None if a.shows else float(a.safe == "on"), 0.0, 0.0
    return -1.0, 1.0, 0.0, 0.0, 0.0, 0.0


def _driver(name: str, a: object) -> tuple[tuple[tuple[float, float, float, bool, bool], ...], list[Value]]:
    match a:
        case MotorAttachment() | PositionAttachment():
            told = values_of(a.output, 1.0)
            return tuple((r, f, b, s > 0, d) for _, _, r, f, b, s, d in told), [Value(name, n, u) for n, u, *_ in told]
        case ServoAttachment():
            low, high = a.output.at_minimum_s * 1e6, a.output.at_maximum_s * 1e6
            per_rad = (high - low) / (a.maximum_rad - a.minimum_rad)
            return ((low - per_rad * a.minimum_rad, per_rad, per_rad, True, False),), [Value(name, "pulse", "us")]
        case SwitchAttachment():
            inverted = a.output.low_is_on
            return ((1.0 if inverted else 0.0, -1.0 if inverted else 1.0, 0.0, True, False),), [Value(name, "pin", "")]
    raise TypeError(f"unknown attachment {a!r}")


def columns(settings: AttachmentSettings) -> list[Column]:
    """Give a Tick's columns: what each is told to be, and the drive of those with a motor."""
    units = {"servo": "rad", "position": "rad"}
    return [
        *(Column("attachments", f"{plain(a.name)}_target", units.get(a.kind, "")) for a in settings.each),
        *(Column("attachments", f"{plain(a.name)}_drive") for a in settings.each if a.kind in ("motor", "position")),
    ]


def start(settings: AttachmentSettings, batch: tuple[int, ...]) -> AttachmentState:
    """Give the state before the first tick."""
    begin = np.broadcast_to(np.array([a.begin for a in settings.each]), (*batch, len(settings.each)))
    return AttachmentState(begin, begin)


def act(
    settings: AttachmentSettings,
    state: AttachmentState,
    orders: Orders | None,
    raw: Floats,
    sensed: Floats,
    stop: Floats,
) -> tuple[AttachmentState, Floats, Floats]:
    """Let a tick pass.

    Parameters
    ----------
    settings : AttachmentSettings
    state : AttachmentState
    orders : Orders or None
        Of the bindings.
    raw, sensed : B + (R,), B + (S,) float64
    stop : B float64
        1 while the robot is stopped: each goes to its safe state.

    Returns
    -------
    AttachmentState, B + (D,), B + (V,) float64
        The drives of those with a motor, and the values that leave.

    Notes
    -----
    To a position: drive = clip((target - position)/full_at, -largest, largest), a loop in proportion. (Åström & Murray,
    Feedback Systems, ch. 11.)
    """
    stopped = stop != 0
    stops = bool(np.count_nonzero(stopped))
    goals, targets = np.empty(state.goal.shape), np.empty(state.told.shape)
    drives, leaving = [], []
    for k, a in enumerate(settings.each):
        was = state.told[..., k]
        speed = _speed(a, orders, raw)
        if a.kind == "switch":
            goal, target = _switched(a, state.goal[..., k], orders)
            if a.shows >= 0:
                target = np.where(raw[..., a.shows] >= PRESSED, 1.0, target)
        elif a.kind == "motor":
            goal = target = speed
        else:
            goal = _placed(a, state.goal[..., k], was, speed, orders, settings.dt_s)
            if stops and a.safe is not None:
                goal = np.where(stopped, a.safe, goal)
            target = goal
            if a.kind == "servo" and a.rate:
                target = was + np.minimum(np.maximum(goal - was, -a.rate * settings.dt_s), a.rate * settings.dt_s)
        halted = stops and a.kind in ("switch", "motor")
        if halted and a.safe is not None:
            goal, target = np.where(stopped, a.safe, goal), np.where(stopped, a.safe, target)
        value = target
        if a.kind == "position":
            at = sensed[..., a.sensed]
            value = (target - at) * a.gain
            if stops:
                # one that is not held may have sunk: it starts again from where it is
                resting = was if a.holds else np.minimum(np.maximum(at, a.low), a.high)
                goal = target = np.where(stopped, resting, target)
                value = np.where(stopped, float(a.holds), 1.0) * (target - at) * a.gain
        elif stops and a.kind == "servo" and a.safe is None:
            goal, target = np.where(stopped, was, goal), np.where(stopped, was, target)
            value = target
        if a.kind in ("motor", "position"):
            value = np.minimum(np.maximum(value, -a.largest), a.largest)
            drives.append(value)
            value = value * a.sign
        goals[..., k], targets[..., k] = goal, target
        leaving += _values(a, value)
    drive = np.stack(drives, axis=-1) if drives else np.zeros((*stop.shape, 0))
    return AttachmentState(goals, targets), drive, np.stack(leaving, axis=-1)


def _speed(a: One, orders: Orders | None, raw: Floats) -> Floats:
    """The share of its speed that is asked for, B in [-1, 1]."""
    asked = np.zeros(raw.shape[:-1])
    for f in a.follows:
        asked = asked + deflection(f, raw[..., f.channel])
    if orders is not None and not orders.idle:
        for i, share in a.speeds:
            asked = asked + np.where(orders.on[..., i], share, 0.0)
    return np.minimum(np.maximum(asked, -1.0), 1.0)


def deflection(f: Follow, raw: Floats) -> Floats:
    """A stick's share, B in [-1, 1], 0 within its dead band and rescaled from its edge; NaN counts as rest."""
    share = np.fmin(np.fmax((raw - f.centre) / f.half, -1.0), 1.0)
    share = np.where(np.isnan(raw), 0.0, share)
    return f.sign * np.sign(share) * np.maximum(np.abs(share) - f.edge, 0.0) / (1.0 - f.edge)


def _switched(a: One, goal: Floats, orders: Orders | None) -> tuple[Floats, Floats]:
    """What was set last, and whether it is on: also while something holds it on."""
    if orders is None or orders.idle:
        return goal, goal
    for i, on in a.sets:
        goal = np.where(orders.fired[..., i], on, goal)
    for i in a.toggles:
        goal = np.where(orders.fired[..., i], 1.0 - goal, goal)
    shown = goal
    for i in a.held:
        shown = np.maximum(shown, orders.on[..., i])
    return goal, shown


def _placed(a: One, goal: Floats, was: Floats, speed: Floats, orders: Orders | None, dt_s: float) -> Floats:
    """Where something with a position shall go. A servo that follows a stick goes where the stick is."""
    if a.kind == "servo" and a.follows:
        goal = np.where(speed != 0, (a.low + a.high) / 2 + speed * (a.high - a.low) / 2, goal)
    else:
        rate = a.rate or (a.high - a.low)  # a servo without a rate crosses its range in a second
        goal = np.where(speed != 0, was + speed * rate * dt_s, goal)
    if orders is not None and not orders.idle:
        for i, angle in a.tos:
            goal = np.where(orders.fired[..., i], angle, goal)
        for i, angle in a.bys:
            goal = np.where(orders.fired[..., i], goal + angle, goal)
    return np.minimum(np.maximum(goal, a.low), a.high)


def _values(a: One, value: Floats) -> list[Floats]:
    """Give the numbers that leave for one attachment, B each."""
    found = []
    for rest, forward, backward, whole, direction in a.driver:
        if direction:
            found.append((value >= 0).astype(float))
            continue
        ahead = np.maximum(value, 0.0)
        number = rest + (forward * value if a.kind == "servo" else forward * ahead + backward * (ahead - value))
        found.append(np.rint(number) if whole else number)
    return found
