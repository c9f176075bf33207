"""Limits: reduces the motion if wheels would need more than they can do."""

from __future__ import annotations

import numpy as np

from pivrex.kernels.engines import Call
from pivrex.kernels.maths import clamp, div, hypot, larger, smaller, sqrt, whole
from pivrex.kernels.records import Flag, Form, Numbers, Record, Whole, field, part
from pivrex.kernels.subset import kernel
from pivrex.line.heading import HeadingColumns
from pivrex.line.inputs import Inputs
from pivrex.line.kinematics import (
    DUST_M_S,
    Needs,
    WheelsColumns,
    needs_of,
    side_of,
    wheel_need,
    wheels_step,
    without_dust,
)
from pivrex.line.layout import plain
from pivrex.line.routine_stage import RoutineColumns
from pivrex.line.stage import Floats, Rung, Stage, named
from pivrex.line.wheel_tick import NOTHING, WheelTick
from pivrex.rig.rig import Rig

__all__ = [
    "LimitScratch",
    "LimitSettings",
    "Limits",
    "LimitsColumns",
    "fit_hubs",
    "fit_speeds",
    "give_way",
    "limits_step",
    "requested_and_limited",
    "settings_of",
    "turning_points",
]  # fmt: skip

_TINY = 1e-300

BOTH, TURNING, MOVING = 0, 1, 2
FIRST = {"both": BOTH, "turning": TURNING, "moving": MOVING}


class LimitSettings(Record):
    """The limits of W wheels.

    Attributes
    ----------
    needs : Needs
        Of the chassis, to split a motion into its parts; with the fastest that each wheel can.
    clip : flag
        Whether each wheel is cut by itself.
    first : int
        What gives way first: BOTH, TURNING or MOVING.
    points : (Q, 2)
        The turning points in m, the centre first: moving is that of the point.
    """

    is_settings = True

    needs: Needs = part()
    clip: Flag = field()
    first: Whole = field()
    points: Numbers = field("points", 2, unit="m")


class LimitScratch(Record):
    """Where a motion is split: what moving and turning ask of each part of the wheels, and a twist."""

    is_scratch = True

    kept: Numbers = field("parts", unit="m/s")
    yielding: Numbers = field("parts", unit="m/s")
    twist: Numbers = field(3)


class LimitsColumns(Record):
    """The limited wheel speeds: of steered ones the velocity of their hubs too, forward and left in turn; and what is lost."""

    hub: Numbers = field("hubs", unit="m/s")
    limited: Numbers = field("wheels", unit="m/s")
    lost: Numbers = field("wheels", unit="m/s")


def settings_of(rig: Rig) -> LimitSettings:
    """Return the limits of a rig."""
    needs, points = needs_of(rig), turning_points(rig)
    made: LimitSettings = Form(LimitSettings, points=len(points), needs=needs.form).of(
        needs=needs, clip=rig.limits.fit == "clip", first=FIRST[rig.limits.first], points=points
    )
    return made


def turning_points(rig: Rig) -> Floats:
    """Return the points that a rig turns about, (Q, 2) in m, its centre first."""
    return np.array([(0.0, 0.0), *((p.x_m, p.y_m) for p in rig.plane.points)])


@kernel
def too_much(s: Needs, requested: Numbers) -> float:
    """Return how many times too fast the wheel with the largest request is, at least 1, from the wheels' speeds."""
    most = 1.0
    for k in range(len(s.top)):
        most = larger(most, div(abs(requested[k]), s.top[k]))
    return most


@kernel
def give_way(kept: Numbers, yielding: Numbers, top: Numbers, wheels: int, each: int) -> tuple[float, float]:
    """Return how much of one part of a motion is left when another part comes first.

    Parameters
    ----------
    kept, yielding : (W·D,)
        What both parts ask of each wheel, in m/s: speeds (D = 1) or velocity vectors (D = 2).
    top : (W,)
        The fastest that each wheel can, in m/s, above 0.
    wheels, each : int
        W and D.

    Returns
    -------
    k, α : float
        Both in [0, 1]: the motion k·kept + α·yielding passes no wheel's top speed, k is as large as it can be by
        itself, and α as large as it can be then.

    Notes
    -----
    For each wheel α is the larger root of |k·a + α·b|² = T², which is α = (-a·b + √((a·b)² + b²(T² - a²)))/b², taken
    as (T² - a²)/(a·b + √…) where a·b > 0, which does not cancel.
    """
    k = 1.0
    for w in range(wheels):
        square = 0.0
        for i in range(each):
            square += kept[w * each + i] * kept[w * each + i]
        k = smaller(k, div(top[w], larger(sqrt(square), _TINY)))
    share = 1.0
    for w in range(wheels):
        size, cross, square = 0.0, 0.0, 0.0
        for i in range(each):
            a, b = kept[w * each + i] * k, yielding[w * each + i]
            size, cross, square = size + a * a, cross + a * b, square + b * b
        if square > _TINY:
            room = larger(top[w] * top[w] - size, 0.0)
            root = sqrt(cross * cross + square * room)
            # where a·b < 0 the sum would cancel, and the other form is the sound one
            share = smaller(share, div(room, cross + root) if cross > 0.0 else div(root - cross, square))
    return k, share


@kernel
def split(s: LimitSettings, w: LimitScratch, side: int, point: int, twist: Numbers, requested: Numbers) -> None:
    """Split what a motion asks of the wheels into what is kept and what gives way: moving of the turning point, and turning about it."""
    mirror = -1.0 if side == 1 else 1.0
    turn = twist[2]
    w.twist[0], w.twist[1], w.twist[2] = turn * (mirror * s.points[point][1]), -(turn * s.points[point][0]), turn
    for k in range(len(w.kept)):
        turning = wheel_need(s.needs, side, k, w.twist)
        w.kept[k] = requested[k] - turning if s.first == TURNING else turning
        w.yielding[k] = turning if s.first == TURNING else requested[k] - turning


@kernel
def fit_parts(
    s: LimitSettings,
    w: LimitScratch,
    side: int,
    point: int,
    twist: Numbers,
    requested: Numbers,
    each: int,
    limited: Numbers,
) -> None:
    """Write the limited wheel speeds where one part of the motion gives way first: moving keeps the speed of the path when
    turning gives way first, and the other way round.
    """
    split(s, w, side, point, twist, requested)
    k, share = give_way(w.kept, w.yielding, s.needs.top, len(s.needs.top), each)
    for i in range(len(w.kept)):
        limited[i] = without_dust(w.kept[i] * k + w.yielding[i] * share, DUST_M_S)


@kernel
def fit_speeds(
    s: LimitSettings, w: LimitScratch, side: int, point: int, twist: Numbers, requested: Numbers, limited: Numbers
) -> None:
    """Write what wheels can of the requested surface speeds, in m/s.

    *Scale* slows all wheels by one factor, so the direction of motion stays; *clip* cuts each at its own top speed.
    """
    top = s.needs.top
    if s.clip:
        for k in range(len(top)):
            limited[k] = clamp(requested[k], -top[k], top[k])
    elif s.first == BOTH:
        most = too_much(s.needs, requested)
        for k in range(len(top)):
            limited[k] = div(requested[k], most)
    else:
        fit_parts(s, w, side, point, twist, requested, 1, limited)


@kernel
def fit_hubs(
    s: LimitSettings, w: LimitScratch, side: int, point: int, twist: Numbers, wheels: WheelsColumns, limited: Numbers
) -> None:
    """Write what steered wheels can of the requested velocity vectors; one that is cut keeps its direction."""
    top = s.needs.top
    if s.clip or s.first == BOTH:
        most = too_much(s.needs, wheels.requested)
        for k in range(len(top)):
            own = larger(div(wheels.requested[k], top[k]), 1.0) if s.clip else most
            limited[2 * k], limited[2 * k + 1] = div(wheels.hub[2 * k], own), div(wheels.hub[2 * k + 1], own)
    else:
        fit_parts(s, w, side, point, twist, wheels.hub, 2, limited)


@kernel
def limits_step(
    s: LimitSettings, w: LimitScratch, twist: Numbers, heading: HeadingColumns, turning_point: float, wheels: WheelsColumns,
    out: LimitsColumns,
) -> None:  # fmt: skip
    """Write the limited wheel speeds, and what is lost."""
    side, point = side_of(heading), whole(turning_point)
    if s.needs.steered:
        fit_hubs(s, w, side, point, twist, wheels, out.hub)
        for k in range(len(out.limited)):
            out.limited[k] = hypot(out.hub[2 * k], out.hub[2 * k + 1])
    else:
        fit_speeds(s, w, side, point, twist, wheels.requested, out.limited)
    for k in range(len(out.limited)):
        out.lost[k] = wheels.requested[k] - out.limited[k]


_ASK, _FIT = Call(wheels_step, ("out",)), Call(limits_step, ("out",))


def requested_and_limited(settings: LimitSettings, twist: Floats) -> tuple[Floats, Floats]:
    """Return what a twist, (3,), asks of wheels and what they can of it: surface speeds, (W,), or velocity vectors, (W, 2), in m/s."""
    needs = settings.needs
    count = len(needs.top)
    sizes = {"wheels": count, "hubs": 2 * count if needs.steered else 0}
    upright = Form(HeadingColumns, gyros=0, sides=0).start()
    wheels, out = Form(WheelsColumns, **sizes).start(), Form(LimitsColumns, **sizes).start()
    twist = np.asarray(twist, np.float64)
    _ASK((), needs, twist, upright, Form(RoutineColumns, wheels=count, arms=0).start(), np.zeros(0), 0, wheels)
    _FIT((), settings, Form(LimitScratch, parts=needs.maps.shape[1]).start(), twist, upright, 0.0, wheels, out)
    if needs.steered:
        return wheels.hub.reshape(-1, 2), out.hub.reshape(-1, 2)
    return wheels.requested, out.limited


class Limits(Stage):
    """The limited wheel speeds, and what is lost. Steered wheels keep their vectors too."""

    name = "limits"

    def __init__(self, rig: Rig) -> None:
        self._rig = rig
        self.settings: LimitSettings = settings_of(rig)
        needs = self.settings.needs
        self._wheels = tuple(plain(w.name) for w in rig.chassis.wheels)
        count = len(self._wheels)
        self.form = Form(LimitsColumns, wheels=count, hubs=2 * count if needs.steered else 0)
        self.scratch = Form(LimitScratch, parts=needs.maps.shape[1])
        vectors = [(f"{w}_{way}", "m/s") for w in self._wheels for way in ("forward", "left") if needs.steered]
        each = [(f"{w}_{what}", f"{rig.way_unit}/s") for what in ("limited", "lost") for w in self._wheels]
        self.columns = named("limits", *vectors, *each)

    @classmethod
    def of(cls, rig: Rig, inputs: Inputs) -> Limits:
        return cls(rig)

    def phrases(self, tick: WheelTick) -> list[str]:
        if abs(tick("limits", f"{tick.column}_lost")) < NOTHING:
            return []
        return [f"! limited to {tick.speed(tick('limits', f'{tick.column}_limited'))}"]

    def rungs(self, tick: WheelTick) -> list[Rung]:
        requested, limited, lost = (
            tick("wheels", f"{tick.column}_requested"),
            tick("limits", f"{tick.column}_limited"),
            tick("limits", f"{tick.column}_lost"),
        )
        rule = self._rig.limits
        first = "" if rule.first == "both" else f", {rule.first} is reduced first"
        asks, has, top = (
            tick.speed(requested, 3, "+"),
            tick.speed(limited, 3, "+"),
            tick.speed(self.settings.needs.top[tick.w]),
        )
        text = f"{asks}, {rule.fit}{first}, top {top} → {has}"
        return [
            Rung("limits", text, "limits.fit", f"! {tick.speed(abs(lost), 3)} lost" if abs(lost) >= NOTHING else "")
        ]
