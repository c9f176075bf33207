"""Steering: which way each steered wheel shall point, how fast it may roll meanwhile, and the loop that turns it there."""

from __future__ import annotations

from dataclasses import dataclass
from math import pi
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from pivrex.line.inputs import Inputs
from pivrex.line.layout import Layout, plain
from pivrex.line.pid import PidSettings, pid
from pivrex.line.pointing import wrap
from pivrex.line.stage import Floats, Rung, Stage, cleaned, named, some
from pivrex.line.told import NOTHING, Told
from pivrex.rig.rig import Rig
from pivrex.units import wrap_deg

__all__ = ["Aim", "SteerSettings", "SteerState", "Steering", "aim", "settings_of"]

NEARLY = 1e-9
"""What counts as nothing beside 1."""

DUST = 1e-9
"""A drive below this is rounding: none."""


@dataclass(frozen=True)
class SteerSettings:
    """The steering of W wheels, S of them steered.

    Attributes
    ----------
    steered : (S,) int
        Which wheels are steered.
    inward : (W,) float64
        Where each wheel points to hold the ground: along the line to the centre.
    threshold : (W,) float64
        In m/s; 0 for wheels that are not steered.
    cosine : bool
    loop : PidSettings
        From the angle that is missing, in rad, to the rate that is wanted, in rad/s: p in 1/s, i in 1/s², d without a unit,
        largest in rad/s.
    per_top : (S,) float64
        The drive, a fraction, for each rad/s; negative for a reversed motor.
    dt_s : float
    """

    steered: NDArray[np.intp]
    inward: Floats
    threshold: Floats
    cosine: bool
    loop: PidSettings
    per_top: Floats
    dt_s: float


class SteerState(NamedTuple):
    """What the steering remembers: where the wheels were to point, NaN before the first tick, and where they pointed,
    B + (W,) in rad; the loop's integral, B + (S,) in rad·s.
    """

    target: Floats
    angle: Floats
    missed: Floats


class Aim(NamedTuple):
    """What steered wheels shall do, B + (W,) each.

    Attributes
    ----------
    target : where they shall point, in rad.
    way : -1 for wheels that run reversed, because that is the short way.
    share : the share of its speed that each wheel may have while an angle is missing.
    speed : surface speeds in m/s, way and share in them.
    """

    target: Floats
    way: Floats
    share: Floats
    speed: Floats


def settings_of(rig: Rig) -> SteerSettings | None:
    """Take the steering from a rig; None if no wheel is steered."""
    if rig.steering is None or not rig.steered:
        return None
    wheels = rig.chassis.wheels
    motors = [rig.steering.wheels[name] for name in rig.steered]
    inward = [np.arctan2(w.y_m, w.x_m) if w.steered else w.drive_rad for w in wheels]
    top = np.array([m.top_rad_s for m in motors])
    return SteerSettings(
        steered=np.array([i for i, w in enumerate(wheels) if w.steered], np.intp),
        inward=np.array(inward, np.float64),
        threshold=np.array([rig.steering.threshold_m_s if w.steered else 0.0 for w in wheels]),
        cosine=rig.steering.cosine == "on",
        loop=PidSettings(
            p=np.array([m.p_per_s for m in motors]),
            i=np.array([m.i for m in motors]),
            d=np.array([m.d for m in motors]),
            largest=np.minimum(top, [m.rate_rad_s if m.rate_rad_s is not None else np.inf for m in motors]),
            any_i=any(m.i for m in motors),
            any_d=any(m.d for m in motors),
        ),
        per_top=np.array([-1.0 if m.reversed else 1.0 for m in motors]) / top,
        dt_s=rig.dt_s,
    )


def aim(
    settings: SteerSettings,
    before: Floats,
    angle: Floats,
    wanted: tuple[Floats, Floats],
    size: Floats,
    hold: NDArray[np.bool_] | None = None,
) -> Aim:
    """Choose where the wheels point and how fast they roll.

    Parameters
    ----------
    settings : SteerSettings
    before : B + (W,) float64
        Where they were to point until now, in rad.
    angle : B + (W,) float64
        Where they point, in rad.
    wanted : pair of B + (W,) float64
        The velocity that each wheel shall have over the ground, forward and left in m/s.
    size : B + (W,) float64
        Its length.
    hold : B bool, optional
        Whether all wheels shall point inwards and stand.

    Returns
    -------
    Aim

    Notes
    -----
    The short way to an angle is at most a quarter turn: a wheel that would have to turn farther goes to the opposite
    angle and runs reversed; at exactly a quarter it is not. With e the angle still missing the share is cos e, so that a
    wheel rolls with what of the wanted velocity lies along it.
    """
    # in the wheel's own directions, as it stands now
    c, s = np.cos(angle), np.sin(angle)
    forward, left = wanted
    along, across = forward * c + left * s, left * c - forward * s
    driven = size > settings.threshold
    reach = np.abs(along)
    way = np.where(along < -NEARLY * size, -1.0, 1.0)
    target = np.where(driven, angle + np.arctan2(across * way, reach), before)
    if hold is not None and some(hold):
        held = hold[..., None]
        inward = wrap(settings.inward - angle)
        inward = np.where(np.abs(inward) > pi / 2, inward - np.copysign(pi, inward), inward)
        target = np.where(held, angle + inward, target)
        driven = driven & ~held
    share = np.ones(size.shape)
    if settings.cosine:
        np.divide(reach, size, out=share, where=driven)
    speed = (along if settings.cosine else way * size) * driven
    return Aim(target, way, share, speed)


class Steering(Stage):
    """For rigs with steered wheels: targets, what is left of the speeds, and the drives of the steering motors."""

    name = "steering"
    reads = ("clock", "limits", "pointing", "bindings")

    def __init__(self, rig: Rig, settings: SteerSettings) -> None:
        self._rig = rig
        self.settings: SteerSettings = settings
        self._wheels = [plain(w.name) for w in rig.chassis.wheels]
        self._steered = [plain(n) for n in rig.steered]
        parts = (("target", "rad"), ("way", ""), ("share", ""), ("speed", "m/s"))
        each = [(f"{w}_{part}", unit) for part, unit in parts for w in self._wheels]
        self.columns = named("steering", *each, *((f"{w}_drive", "") for w in self._steered))
        self.kept_while = (rig.steered, len(self._wheels))

    @classmethod
    def of(cls, rig: Rig, inputs: Inputs) -> Steering | None:
        settings = settings_of(rig)
        return cls(rig, settings) if settings is not None else None

    def place(self, layout: Layout) -> None:
        both = layout.these("limits", [f"{w}_{way}" for w in self._wheels for way in ("forward", "left")])
        self._forward, self._left = slice(both.start, both.stop, 2), slice(both.start + 1, both.stop, 2)
        self._size = layout.these("limits", [f"{w}_given" for w in self._wheels])
        self._angle = layout.stage("pointing")
        self._stopped = layout.at("clock", "stopped")
        self._hold = layout.at("bindings", "hold") if layout.has("bindings", "hold") else -1
        self._out = [layout.these("steering", [f"{w}_{part}" for w in self._wheels]) for part in Aim._fields]
        self._drive = layout.these("steering", [f"{w}_drive" for w in self._steered])

    def start(self, batch: tuple[int, ...]) -> SteerState:
        w, s = (*batch, len(self._wheels)), (*batch, len(self._steered))
        return SteerState(np.full(w, np.nan), np.zeros(w), np.zeros(s))

    def step(self, state: SteerState, row: Floats) -> SteerState:
        settings = self.settings
        wanted = row[..., self._forward], row[..., self._left]
        angle = row[..., self._angle].copy()
        hold = row[..., self._hold] >= 0.5 if self._hold >= 0 else None
        before, angle_before = state.target, state.angle
        fresh = before != before  # noqa: PLR0124 - NaN is not itself
        if some(fresh):
            before, angle_before = np.where(fresh, angle, before), np.where(fresh, angle, angle_before)
        aimed = aim(settings, before, angle, wanted, row[..., self._size], hold)
        error = aimed.target - angle
        rate: Floats | float = (angle - angle_before) / settings.dt_s if settings.loop.any_d else 0.0
        if len(self._steered) != len(self._wheels):
            error = error[..., settings.steered]
            rate = rate[..., settings.steered] if settings.loop.any_d else rate  # type: ignore[index]
        given, missed = pid(settings.loop, state.missed, error, rate, settings.dt_s)
        drive = cleaned(given * settings.per_top, DUST)
        stopped = row[..., self._stopped]
        if some(stopped):
            halted = stopped[..., None] != 0
            drive, missed = np.where(halted, 0.0, drive), np.where(halted, 0.0, missed)
        for place, values in zip(self._out, aimed, strict=True):
            row[..., place] = values
        row[..., self._drive] = drive
        return SteerState(aimed.target, angle, missed)

    # --- what it tells ---

    def phrases(self, told: Told) -> list[str]:
        if not self._rig.chassis.wheels[told.w].steered:
            return []
        target, angle = self._angles(told)
        given, speed = told("limits", f"{told.column}_given"), told("steering", f"{told.column}_speed")
        parts = [f"to {target:.0f} deg, points {angle:.0f} deg"]
        if told("steering", f"{told.column}_way") < 0:
            parts[0] += ", reversed"
        if abs(abs(speed) - given) > NOTHING:
            share = told("steering", f"{told.column}_share")
            parts[0] += f", cosine {share:.2f}" if share < 1 else ""
        return [f"{parts[0]}: {speed:.2f} m/s"]

    def _angles(self, told: Told) -> tuple[float, float]:
        target = np.degrees(told("steering", f"{told.column}_target"))
        return wrap_deg(float(target)), wrap_deg(float(np.degrees(told("pointing", f"{told.column}_angle"))))

    def rungs(self, told: Told) -> list[Rung]:
        if not self._rig.chassis.wheels[told.w].steered:
            return []
        target, angle = self._angles(told)
        missing = abs(np.degrees(told("steering", f"{told.column}_target") - told("pointing", f"{told.column}_angle")))
        return [
            Rung(
                "steer",
                f"{told('limits', f'{told.column}_given'):+.3f} m/s, points {angle:+.1f} deg, shall {target:+.1f} deg, "
                f"share {told('steering', f'{told.column}_share'):.2f} → {told('steering', f'{told.column}_speed'):+.3f} m/s",
                f"steering.wheels.{told.wheel}.p",
                "still turning" if missing > 2 else "",
            )
        ]
