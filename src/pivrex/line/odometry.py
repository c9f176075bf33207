"""Odometry: where the robot believes to be, from the ways of its wheels and its turns, and how sure it is of that."""

from __future__ import annotations

from dataclasses import dataclass
from math import nan, pi
from typing import Any, NamedTuple

import numpy as np

from pivrex.line.covariance import Doubts, Spread, grown, measured
from pivrex.line.inputs import Inputs
from pivrex.line.kinematics import kinematics_of
from pivrex.line.layout import Layout, plain
from pivrex.line.se2 import SMALL_RAD
from pivrex.line.stage import Floats, Rung, Stage, named
from pivrex.line.told import Told
from pivrex.line.values import Ops, Value, joined, ops_of, parts, single
from pivrex.rig.rig import Rig

__all__ = ["Odometry", "OdometrySettings", "OdometryState"]

STANDS_RAD_S, STANDS_M_S = 0.02, 0.004
"""Wheels that turn the robot no faster, and roll no faster, stand."""

BLIND = 0.15
"""At least so much of every way, and of every turn by wheels, is unsure where no encoder says whether it was driven, one sigma."""


@dataclass(frozen=True)
class OdometrySettings:
    """How a robot reckons.

    Attributes
    ----------
    forward, forward_upside_down : (3, W·D) float64
        The forward map, on its wheels and on its back.
    steered : bool
        Whether wheels' ways have two parts, along where they point.
    by_gyro : bool
    pivot : float
        How far ahead of the centre the point lies about which the wheels turn the robot, in m.
    doubts : Doubts
    dt_s : float
    """

    forward: Floats
    forward_upside_down: Floats
    steered: bool
    by_gyro: bool
    pivot: float
    doubts: Doubts
    dt_s: float


class OdometryState(NamedTuple):
    """What is remembered.

    Attributes
    ----------
    pose : B + (3,) float64
        x and y in m, heading in rad, unwrapped.
    spread : B + (18,) float64
        See `Spread`.
    travels : B + (W,) float64
        How far the wheels had rolled; NaN before the first tick.
    angles : B + (W,) float64
        Where they pointed, of steered chassis; else B + (0,).
    gyro : B float64
        The heading by the gyro; NaN before it has spoken.
    told : B + (3,) float64
        The motion that was asked of the wheels in the tick before, in m/s and rad/s: what is left to robots without encoders.
    apart : B + (3,) float64
        By how much wheels say more turn than the gyro since the pose was set, in rad: while they stood; in the direction in which they
        turned it; and how far they turned it, either way.
    """

    pose: Floats
    spread: Floats
    travels: Floats
    angles: Floats
    gyro: Floats
    told: Floats
    apart: Floats


class Odometry(Stage):
    """For every rig. A robot whose encoders say nothing is believed to have done what it was told."""

    name = "odometry"
    reads: tuple[str, ...] = ("sensed", "heading", "pointing")
    looks_back = True

    def __init__(self, rig: Rig) -> None:
        o, maps = rig.odometry, kinematics_of(rig.chassis)
        by_gyro = rig.gyro is not None and o.turn == "gyro"
        blind = any(not m.counts_per_turn for m in rig.motors.values())
        scrub = np.array([[1.0], [1.0], [1.0 / o.scrub]])  # of the turn that wheels say
        self.settings: OdometrySettings = OdometrySettings(
            forward=maps.forward * scrub,
            forward_upside_down=kinematics_of(rig.chassis, upside_down=True).forward * scrub,
            steered=maps.hubs is not None,
            by_gyro=by_gyro,
            # a simulated robot that is said to be perfect drags no wheel
            pivot=0.0 if rig.body is not None and rig.body.kind == "perfect" else o.pivot_m or 0.0,
            doubts=Doubts(
                way=(max(o.way, BLIND) if blind else o.way) ** 2,
                turning=(max(o.turning, BLIND) if blind and not by_gyro else o.turning) ** 2,
                drift=o.drift_rad_s**2 if by_gyro else 0.0,
                pivot_off=_pivot_off(rig) ** 2,
                rough=o.rough_m**2,
                gyro_s=rig.dt_s if by_gyro else 0.0,
            ),
            dt_s=rig.dt_s,
        )
        self._has_gyro = rig.gyro is not None
        wheels = "what the wheels were told (no encoders)" if blind else "wheels"
        alone = " alone" if rig.gyro is not None else " alone (no gyro)"
        self.basis = f"{wheels} and gyro" if by_gyro else wheels + alone
        """By what it reckons, in words."""
        self._wheels = [plain(w.name) for w in rig.chassis.wheels]
        self._on_wheels, self._on_back = (
            m.tolist() for m in (self.settings.forward, self.settings.forward_upside_down)
        )
        self.columns = named(
            "odometry", ("x", "m"), ("y", "m"), ("heading", "rad"), ("forward", "m"), ("left", "m"), ("turn", "rad"),
            ("xx", "m^2"), ("xy", "m^2"), ("xh", "m rad"), ("yy", "m^2"), ("yh", "m rad"), ("hh", "rad^2"),
            ("apart_still", "rad"), ("apart_turning", "rad"), ("turned", "rad"),
        )  # fmt: skip
        self.kept_while = (self.settings.forward.tobytes(), by_gyro)

    @classmethod
    def of(cls, rig: Rig, inputs: Inputs) -> Odometry:
        return cls(rig)

    def place(self, layout: Layout) -> None:
        columns = [layout.at("sensed", f"{w}_travel") for w in self._wheels]
        columns += [layout.at("heading", "heading")] if self._has_gyro else []
        self._upside_down = layout.at("heading", "upside_down") if layout.has("heading", "upside_down") else -1
        pointing = layout.stage("pointing")
        columns += list(range(pointing.start, pointing.stop)) if self.settings.steered else []
        self._columns = np.array(columns, np.intp)
        self._out = layout.stage("odometry")
        self._told = layout.these("motion", ("forward", "left", "turn"))

    # --- its state ---

    def start(self, batch: tuple[int, ...]) -> OdometryState:
        count = len(self._wheels)
        unknown = np.full((*batch, count), nan)
        return OdometryState(
            np.zeros((*batch, 3)), np.zeros((*batch, len(Spread._fields))), unknown,
            unknown if self.settings.steered else np.zeros((*batch, 0)), np.full(batch, nan), np.zeros((*batch, 3)),
            np.zeros((*batch, 3)),
        )  # fmt: skip

    def put(self, state: OdometryState, pose: Floats, deviations: Floats | None = None) -> OdometryState:
        """Give the state of robots that are known to be at a pose, B + (3,).

        ``deviations``, (3,): how sure that is, one sigma of x, y and heading; entirely if left out.
        """
        spread = np.zeros_like(state.spread)
        if deviations is not None:
            for name, sigma in zip(("xx", "yy", "hh"), deviations, strict=True):
                spread[..., Spread._fields.index(name)] = sigma * sigma
        whole = np.broadcast_to(pose, state.pose.shape).astype(float)
        return state._replace(pose=whole, spread=spread, apart=np.zeros_like(state.apart))

    def moved(self, state: OdometryState, was: Floats, now: Floats) -> OdometryState:
        """Give the state of robots that believed to be at one pose some ticks ago, (3,), and were at another: all that they
        believe since is moved along. They are as sure as somebody who said so.
        """
        turn = now[2] - was[2]
        c, s = np.cos(turn), np.sin(turn)
        dx, dy = state.pose[..., 0] - was[0], state.pose[..., 1] - was[1]
        pose = np.stack((now[0] + c * dx - s * dy, now[1] + s * dx + c * dy, state.pose[..., 2] + turn), axis=-1)
        return self.put(state, pose)

    def updated(
        self, state: OdometryState, across: Floats, off: float, variance: float
    ) -> tuple[OdometryState, Floats, Floats]:
        """Take in one number that was measured.

        Parameters
        ----------
        state : OdometryState
        across : (3,) float64
            How the number changes with x, y and heading: h.
        off : float
            Measured less believed.
        variance : float
            Of the measurement: r.

        Returns
        -------
        OdometryState, B + (3,) float64, B float64
            The state, the gain for x, y and heading, and the variance that was expected of ``off``.

        See `pivrex.line.covariance.measured`.
        """
        p = Spread(*np.moveaxis(state.spread, -1, 0))
        less, k, s = measured(p, across.tolist(), variance)
        gain = np.stack(k, axis=-1)
        return state._replace(pose=state.pose + gain * off, spread=np.stack(less, axis=-1)), gain, np.asarray(s)

    def keep(self, other: Stage, state: Any, batch: tuple[int, ...]) -> Any:
        if other.kept_while == self.kept_while:
            return state
        return self.start(batch)._replace(pose=state.pose, spread=state.spread)  # other wheels, the same place

    # --- a tick ---

    def step(self, state: OdometryState, row: Floats) -> OdometryState:
        batch = row.shape[:-1]
        o = ops_of(batch)
        seen = parts(row[..., self._columns])
        x, y, heading = parts(state.pose)
        w = len(self._wheels)
        travels, told, at = seen[:w], parts(state.told), w
        gyro = seen[at] if self._has_gyro else nan
        at += self._has_gyro
        pointing = seen[at:]
        forward, left, wheels_turn = self._rolled(o, state, travels, pointing, row)
        silent = forward != forward  # noqa: PLR0124 - NaN is not itself
        dt = self.settings.dt_s
        forward, left = o.where(silent, told[0] * dt, forward), o.where(silent, told[1] * dt, left)
        turn = wheels_turn = o.where(silent, told[2] * dt, wheels_turn)
        apart = parts(state.apart)
        if self._has_gyro:
            by_gyro = gyro - single(state.gyro)
            heard = by_gyro == by_gyro  # noqa: PLR0124 - NaN is not itself
            turn = o.where(heard, by_gyro, turn) if self.settings.by_gyro else turn
            apart = self._apart(
                o, apart, forward, left, wheels_turn, o.where(heard & o.no(silent), by_gyro, wheels_turn)
            )
        left = left - self.settings.pivot * turn
        along_x, along_y = self.along(o, heading, forward, left, turn)
        doubts = self.settings.doubts
        cos, sin = o.turned(heading + 0.5 * turn) if doubts.pivot_off else (0.0, 0.0)
        x, y, heading = x + along_x, y + along_y, heading + turn
        spread = grown(doubts, Spread(*parts(state.spread)), along_x, along_y, turn, (-sin * turn, cos * turn))
        row[..., self._out] = joined((x, y, heading, forward, left, turn, *spread[:6], *apart), batch)
        keep = row[..., self._columns]
        return OdometryState(
            pose=row[..., self._out][..., :3].copy(),
            spread=joined(spread, batch),
            travels=keep[..., :w],
            angles=keep[..., at:] if self.settings.steered else state.angles,
            gyro=keep[..., w] if self._has_gyro else state.gyro,
            told=state.told,
            apart=joined(apart, batch),
        )

    def afterwards(self, state: OdometryState, row: Floats) -> OdometryState:
        return state._replace(told=row[..., self._told])

    def _rolled(self, o: Ops, state: OdometryState, travels: list[Value], pointing: list[Value], row: Floats) -> Any:
        """Give the displacement that the wheels say, in the body's directions; none before there is anything to compare."""
        known = parts(state.travels)
        rolled = [_since(o, before, now) for now, before in zip(travels, known, strict=True)]
        if self.settings.steered:
            middle = [_middle(o, before, now) for now, before in zip(pointing, parts(state.angles), strict=True)]
            rolled = [r * part for r, a in zip(rolled, middle, strict=True) for part in o.turned(a)]
        found = [_sum(shares, rolled) for shares in self._on_wheels]
        if self._upside_down >= 0:
            over = single(row[..., self._upside_down] + 0.0) > 0
            if o.some(over):
                other = [_sum(shares, rolled) for shares in self._on_back]
                found = [o.where(over, b, a) for a, b in zip(found, other, strict=True)]
        return found

    def _apart(
        self, o: Ops, apart: list[Value], forward: Value, left: Value, by_wheels: Value, by_gyro: Value
    ) -> list[Value]:
        """Add up how far wheels and gyro disagree about the turn."""
        dt, gap = self.settings.dt_s, by_wheels - by_gyro
        rolls = o.sqrt(forward * forward + left * left)
        stands = (abs(by_wheels) < STANDS_RAD_S * dt) & (rolls < STANDS_M_S * dt)
        still, turning, turned = apart
        more = o.where(by_wheels < 0, -gap, gap)
        return [still + o.where(stands, gap, 0.0), turning + o.where(stands, 0.0, more), turned + abs(by_wheels)]

    @staticmethod
    def along(o: Ops, heading: Value, forward: Value, left: Value, turn: Value) -> tuple[Value, Value]:
        """Give a displacement on the field: the exponential on SE(2), see `pivrex.line.se2`."""
        small = abs(turn) < SMALL_RAD
        safe = o.where(small, 1.0, turn)
        cos, sin = o.turned(safe)
        a = o.where(small, 1.0, sin / safe)
        b = o.where(small, turn * 0.5, (1.0 - cos) / safe)
        ahead, aside = a * forward - b * left, b * forward + a * left
        c, s = o.turned(heading)
        return c * ahead - s * aside, s * ahead + c * aside

    def rungs(self, told: Told) -> list[Rung]:
        if not told("following", "mode"):
            return []  # nothing that is asked for hangs on it
        x, y = told("odometry", "x"), told("odometry", "y")
        xx, yy = (
            float(told.row[told.line.layout.at("odometry", n)]) for n in ("xx", "yy")
        )  # far below what is written
        sigma = float(np.sqrt(max(0.0, (xx + yy) / 2)))
        heading = float(np.degrees(told("odometry", "heading")))
        return [
            Rung(
                "belief",
                f"at {x:.2f} m, {y:.2f} m, {heading:.0f} deg by {self.basis}, ± {sigma * 100:.1f} cm",
                "odometry.turn",
            )
        ]


def _pivot_off(rig: Rig) -> float:
    """Return by how much the point may be off about which a robot turns, one standard deviation in m: where wheels are dragged aside
    while it turns, their loads and grip decide where that point lies.
    """
    o = rig.odometry
    if o.pivot_error_m is not None:
        return o.pivot_error_m
    axles = [w.x_m for w in rig.chassis.wheels if w.rollers_rad is None and not w.steered]
    apart = max(axles) - min(axles) if axles else 0.0
    return 0.25 * apart if o.pivot_m is None else 0.125 * apart


def _since(o: Ops, before: Value, now: Value) -> Value:
    """Give how far a wheel rolled; 0 if nobody knows where it was."""
    return o.where(before == before, now - before, now - now)  # noqa: PLR0124 - NaN is not itself


def _middle(o: Ops, before: Value, now: Value) -> Value:
    """Give where a wheel pointed in the middle of a tick; where it does now if nobody knows where it did before."""
    middle = before + ((now - before + pi) % (2 * pi) - pi) / 2
    return o.where(middle == middle, middle, now)  # noqa: PLR0124 - NaN is not itself


def _sum(shares: list[float], rolled: list[Value]) -> Value:
    whole = shares[0] * rolled[0]
    for share, one in zip(shares[1:], rolled[1:], strict=True):
        whole = whole + share * one
    return whole
