"""Limits: what happens when wheels are asked for more than they can."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from pivrex.line.inputs import Inputs
from pivrex.line.kinematics import DUST_M_S, Asked, asked_of, motion_stage
from pivrex.line.layout import Layout, plain
from pivrex.line.se2 import shift
from pivrex.line.stage import Floats, Rung, Stage, cleaned, named, some
from pivrex.line.told import NOTHING, Told
from pivrex.rig.rig import Rig

__all__ = [
    "LimitSettings", "Limits", "clip_each", "clip_vectors", "fit", "give_way", "scale_all", "scale_vectors", "settings_of",
    "turning_points",
]  # fmt: skip

_TINY = 1e-300

BOTH, TURNING, MOVING = range(3)
FIRST = {"both": BOTH, "turning": TURNING, "moving": MOVING}


@dataclass(frozen=True)
class LimitSettings:
    """What W wheels can.

    Attributes
    ----------
    top : (W,) float64
        The fastest that each wheel can, in m/s, above 0.
    clip : bool
        Whether each wheel is cut by itself.
    first : int
        What gives way first: BOTH, TURNING or MOVING.
    points : (Q, 2) float64
        The turning points in m, the centre first: moving is that of the point.
    """

    top: Floats
    clip: bool
    first: int
    points: Floats


def settings_of(rig: Rig) -> LimitSettings:
    """Take the limits from a rig."""
    return LimitSettings(
        top=np.array([rig.wheel_top_m_s(w.name) for w in rig.chassis.wheels]),
        clip=rig.limits.fit == "clip",
        first=FIRST[rig.limits.first],
        points=turning_points(rig),
    )


def turning_points(rig: Rig) -> Floats:
    """Give the points that a rig turns about, (Q, 2) in m, its centre first."""
    return np.array([(0.0, 0.0), *((p.x_m, p.y_m) for p in rig.plane.points)])


def scale_all(asked: Floats, top: Floats) -> Floats:
    """Slow all wheels by one factor so that none passes its top speed; the direction of motion stays.

    Parameters
    ----------
    asked : B + (W,) float64
        Wheel surface speeds in m/s.
    top : (W,) float64
        The fastest that each wheel can, in m/s, above 0.

    Returns
    -------
    B + (W,) float64
        asked / max(1, max over wheels of |asked|/top).
    """
    given: Floats = asked / too_much(np.abs(asked), top)[..., None]
    return given


def too_much(sizes: Floats, top: Floats) -> Floats:
    """Give how many times too fast the wheel that is asked for most is, B, at least 1; ``sizes`` are B + (W,) in m/s."""
    return np.maximum(np.maximum.reduce(sizes / top, axis=-1), 1.0)


def clip_each(asked: Floats, top: Floats) -> Floats:
    """Cut each wheel at its own top speed; shapes as in `scale_all`. The direction of motion changes."""
    return np.maximum(np.minimum(asked, top), -top)


def scale_vectors(asked: Floats, top: Floats) -> Floats:
    """Like `scale_all`, for the velocity vectors of steered wheels, B + (W, 2)."""
    given: Floats = asked / too_much(np.hypot(asked[..., 0], asked[..., 1]), top)[..., None, None]
    return given


def clip_vectors(asked: Floats, top: Floats) -> Floats:
    """Like `clip_each`, for the velocity vectors of steered wheels, B + (W, 2); each keeps its direction."""
    most = np.maximum(np.hypot(asked[..., 0], asked[..., 1]) / top, 1.0)
    given: Floats = asked / most[..., None]
    return given


def give_way(kept: Floats, yielding: Floats, top: Floats) -> tuple[Floats, Floats]:
    """Find how much of one part of a motion is left when another part comes first.

    Parameters
    ----------
    kept, yielding : B + (W, D) float64
        What both parts ask of each wheel, in m/s: speeds (D = 1) or velocity vectors (D = 2).
    top : (W,) float64
        The fastest that each wheel can, in m/s, above 0.

    Returns
    -------
    k, α : B float64
        Both in [0, 1]: the motion k·kept + α·yielding passes no wheel's top speed, k is as large as it can be by
        itself, and α as large as it can be then.

    Notes
    -----
    For each wheel α is the larger root of |k·a + α·b|² = T², which is α = (-a·b + √((a·b)² + b²(T² - a²)))/b², taken
    as (T² - a²)/(a·b + √…), which does not cancel.
    """
    size = np.sqrt((kept * kept).sum(axis=-1))
    k = np.minimum((top / np.maximum(size, _TINY)).min(axis=-1), 1.0)
    a = kept * k[..., None, None]
    cross, square = (a * yielding).sum(axis=-1), (yielding * yielding).sum(axis=-1)
    room = np.maximum(top * top - (a * a).sum(axis=-1), 0.0)
    root = np.sqrt(cross * cross + square * room)
    below = cross + root
    with np.errstate(divide="ignore", invalid="ignore", over="ignore"):
        # where a·b < 0 the sum would cancel, and the other form is the sound one
        share = np.where(cross > 0, room / below, (root - cross) / square)
    share = np.where(square > _TINY, share, 1.0)
    return k, np.minimum(share.min(axis=-1), 1.0)


def fit(
    settings: LimitSettings,
    maps: Asked,
    twist: Floats,
    asked: Floats,
    upside_down: Floats | None = None,
    point: Floats | None = None,
) -> Floats:
    """Give what wheels can of what is asked.

    Parameters
    ----------
    settings : LimitSettings
    maps : Asked
        Of the chassis, to split a motion into its parts.
    twist : B + (3,) float64
        The motion of the centre.
    asked : B + (W,) or B + (W, 2) float64
        What it asks of the wheels: surface speeds, or velocity vectors where wheels are steered.
    over : B float64, optional
        1 where the robot lies on its back.
    point : B float64, optional
        The index of the turning point: what moves is this point, what turns is the robot about it.

    Returns
    -------
    like ``asked``
    """
    steered = asked.ndim > twist.ndim
    if settings.clip:
        return (clip_vectors if steered else clip_each)(asked, settings.top)
    if settings.first == BOTH:
        return (scale_vectors if steered else scale_all)(asked, settings.top)
    turning = np.zeros(twist.shape)
    turning[..., 2] = twist[..., 2]
    if point is not None and some(point):
        x, y = np.moveaxis(settings.points[point.astype(np.intp)], -1, 0)
        turning = shift(turning, x, y if upside_down is None else np.where(upside_down > 0, -y, y))
    turn = asked_of(maps, turning, upside_down)
    kept, yielding = (asked - turn, turn) if settings.first == TURNING else (turn, asked - turn)
    # moving keeps the speed of the path when turning gives way first, and the other way round
    flat = (kept, yielding) if steered else (kept[..., None], yielding[..., None])
    k, share = give_way(*flat, settings.top)
    wide = (..., None, None) if steered else (..., None)
    given: Floats = kept * k[wide] + yielding * share[wide]
    return cleaned(given, DUST_M_S)


class Limits(Stage):
    """What the wheels are given of what is asked, and what is lost. Steered wheels keep their vectors beside it."""

    name = "limits"
    reads: tuple[str, ...] = ("law", "frame", "correction", "heading", "wheels")

    def __init__(self, rig: Rig, maps: Asked) -> None:
        self._rig, self._maps = rig, maps
        self.settings: LimitSettings = settings_of(rig)
        self._one_factor = not self.settings.clip and self.settings.first == BOTH
        self._wheels = tuple(plain(w.name) for w in rig.chassis.wheels)
        vectors = [(f"{w}_{way}", "m/s") for w in self._wheels for way in ("forward", "left") if maps.steered]
        each = [(f"{w}_{what}", "m/s") for what in ("given", "lost") for w in self._wheels]
        self.columns = named("limits", *vectors, *each)

    @classmethod
    def of(cls, rig: Rig, inputs: Inputs) -> Limits:
        return cls(rig, Asked.of(rig))

    def place(self, layout: Layout) -> None:
        self._twist = layout.these(motion_stage(layout), ("forward", "left", "turn"))
        self._point = layout.at("frame", "point") if layout.has("frame", "point") else -1
        self._upside_down = layout.at("heading", "upside_down") if layout.has("heading", "upside_down") else -1
        self.reads = self.reads if self._upside_down >= 0 else tuple(r for r in self.reads if r != "heading")
        self._asked = layout.these("wheels", [f"{w}_asked" for w in self._wheels])
        self._out = layout.these("limits", [f"{w}_given" for w in self._wheels])
        self._lost = layout.these("limits", [f"{w}_lost" for w in self._wheels])
        if self._maps.steered:
            names = [f"{w}_{way}" for w in self._wheels for way in ("forward", "left")]
            self._hubs, self._vectors = layout.these("wheels", names), layout.these("limits", names)

    def step(self, state: object, row: Floats) -> object:
        asked = row[..., self._asked]
        if self._one_factor:
            most = too_much(np.abs(asked), self.settings.top)
            slow = some(most > 1.0)
            given = asked / most[..., None] if slow else asked
            row[..., self._out], row[..., self._lost] = given, asked - given
            if self._maps.steered:
                vectors = row[..., self._hubs]
                row[..., self._vectors] = vectors / most[..., None] if slow else vectors
            return state
        upside_down = row[..., self._upside_down] if self._upside_down >= 0 else None
        point = row[..., self._point] if self._point >= 0 else None
        if self._maps.steered:
            hubs = row[..., self._hubs].reshape((*row.shape[:-1], -1, 2))
            vectors = fit(self.settings, self._maps, row[..., self._twist], hubs, upside_down, point)
            row[..., self._vectors] = vectors.reshape((*row.shape[:-1], -1))
            given = np.hypot(vectors[..., 0], vectors[..., 1])
        else:
            given = fit(self.settings, self._maps, row[..., self._twist], asked, upside_down, point)
        row[..., self._out] = given
        row[..., self._lost] = asked - given
        return state

    def phrases(self, told: Told) -> list[str]:
        if abs(told("limits", f"{told.column}_lost")) < NOTHING:
            return []
        return [f"! limited to {told('limits', f'{told.column}_given'):.2f} m/s"]

    def rungs(self, told: Told) -> list[Rung]:
        asked, given, lost = (
            told("wheels", f"{told.column}_asked"),
            told("limits", f"{told.column}_given"),
            told("limits", f"{told.column}_lost"),
        )
        rule = self._rig.limits
        first = "" if rule.first == "both" else f", {rule.first} gives way first"
        text = f"{asked:+.3f} m/s, {rule.fit}{first}, top {self.settings.top[told.w]:.2f} m/s → {given:+.3f} m/s"
        return [Rung("limits", text, "limits.fit", f"! {abs(lost):.3f} m/s lost" if abs(lost) >= NOTHING else "")]
