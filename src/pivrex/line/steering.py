"""Steering: which way each steered wheel shall point, how fast it may roll meanwhile, and the loop that turns it there."""

from __future__ import annotations

from dataclasses import dataclass
from math import pi

import numpy as np
from numpy.typing import NDArray

from pivrex.rig.rig import Rig

__all__ = ["SteerSettings", "SteerState", "aim", "look", "loop", "settings_of", "start", "wrap"]

Floats = NDArray[np.float64]

NEARLY_A_QUARTER = pi / 2 + 1e-9
"""The short way is never longer than this; at exactly a quarter turn the wheel is not reversed."""


@dataclass(frozen=True)
class SteerSettings:
    """The steering of W wheels, S of them steered. Wheels that are not steered stand at their drive direction.

    Attributes
    ----------
    steered : (S,) int
        Which wheels are steered.
    fixed : (W,) float64
        The drive direction of each wheel, in rad; 0 for steered ones.
    inward : (W,) float64
        Where each wheel points to hold the ground: along the line to the centre.
    threshold : (W,) float64
        In m/s; 0 for wheels that are not steered.
    cosine : bool
    by_sensor : (S,) bool
        Wheels without an encoder, whose angle is the absolute sensor's.
    full, offset, sense : (S,) float64
        Of the absolute sensors: the reading of a whole turn, the angle it reads straight ahead, 1 or -1. Without a
        sensor ``full`` is NaN: the wheel is taken to point straight ahead at the start.
    p, i, d : (S,) float64
        The loop's gains.
    top, rate : (S,) float64
        The fastest that the motor turns the wheel, and the fastest it may, in rad/s.
    sign : (S,) float64
        1, or -1 for a reversed motor.
    """

    steered: NDArray[np.intp]
    fixed: Floats
    inward: Floats
    threshold: Floats
    cosine: bool
    by_sensor: NDArray[np.bool_]
    full: Floats
    offset: Floats
    sense: Floats
    p: Floats
    i: Floats
    d: Floats
    top: Floats
    rate: Floats
    sign: Floats


@dataclass(frozen=True)
class SteerState:
    """What the steering remembers.

    Attributes
    ----------
    zero : B + (S,) float64
        What is added to the encoder's angle; NaN before the first tick.
    angle : B + (W,) float64
        Where the wheels pointed last, in rad, unwrapped; NaN before the first tick.
    target : B + (W,) float64
        Where they were to point.
    missed : B + (S,) float64
        The loop's integral, in rad·s.
    """

    zero: Floats
    angle: Floats
    target: Floats
    missed: Floats


def settings_of(rig: Rig) -> SteerSettings | None:
    """Take the steering from a rig; None if no wheel is steered."""
    if rig.steering is None or not rig.steered:
        return None
    wheels = rig.chassis.wheels
    motors = [rig.steering.wheels[name] for name in rig.steered]
    sensors = [m.sensor for m in motors]
    inward = [np.arctan2(w.y_m, w.x_m) if w.steered else w.drive_rad for w in wheels]
    top = np.array([m.top_rad_s for m in motors])
    return SteerSettings(
        steered=np.array([i for i, w in enumerate(wheels) if w.steered], np.intp),
        fixed=np.array([w.drive_rad for w in wheels]),
        inward=np.array(inward, np.float64),
        threshold=np.array([rig.steering.threshold_m_s if w.steered else 0.0 for w in wheels]),
        cosine=rig.steering.cosine == "on",
        by_sensor=np.array([m.counts_per_turn == 0 for m in motors]),
        full=np.array([s.full if s is not None else np.nan for s in sensors]),
        offset=np.array([s.offset_rad if s is not None else 0.0 for s in sensors]),
        sense=np.array([-1.0 if s is not None and s.reversed else 1.0 for s in sensors]),
        p=np.array([m.p_per_s for m in motors]),
        i=np.array([m.i for m in motors]),
        d=np.array([m.d for m in motors]),
        top=top,
        rate=np.minimum(top, [m.rate_rad_s if m.rate_rad_s is not None else np.inf for m in motors]),
        sign=np.array([-1.0 if m.reversed else 1.0 for m in motors]),
    )


def start(settings: SteerSettings, batch: tuple[int, ...]) -> SteerState:
    """Give the state before the first tick."""
    w, s = (*batch, len(settings.fixed)), (*batch, len(settings.steered))
    return SteerState(np.full(s, np.nan), np.full(w, np.nan), np.full(w, np.nan), np.zeros(s))


def wrap(angle_rad: Floats) -> Floats:
    """Bring angles into [-π, π)."""
    wrapped: Floats = (angle_rad + pi) % (2 * pi) - pi
    return wrapped


def look(settings: SteerSettings, state: SteerState, turned: Floats, absolute: Floats) -> SteerState:
    """Find where the wheels point now.

    Parameters
    ----------
    settings : SteerSettings
    state : SteerState
    turned : B + (S,) float64
        How far the encoders say each wheel has turned since the robot was switched on, in rad.
    absolute : B + (S,) float64
        What the absolute sensors read: counts, or the share of the supply.

    Returns
    -------
    SteerState
        With the true angles: at the start those of the absolute sensors, sense·(2π·reading/full - offset), then the
        encoders' changes on top of them. A wheel without an encoder follows its sensor.
    """
    pointing = np.where(np.isnan(settings.full), 0.0, settings.sense * (absolute / settings.full * 2 * pi - settings.offset))
    fresh = np.isnan(state.zero)
    zero = np.where(fresh, wrap(pointing) - turned, state.zero)
    before = state.angle[..., settings.steered]
    near = np.where(np.isnan(before), wrap(pointing), before)
    now = np.where(settings.by_sensor, near + wrap(pointing - near), turned + zero)
    angle = np.broadcast_to(settings.fixed, (*now.shape[:-1], len(settings.fixed))).copy()
    angle[..., settings.steered] = now
    target = np.where(np.isnan(state.target), angle, state.target)
    return SteerState(zero, angle, target, state.missed)


def aim(
    settings: SteerSettings, state: SteerState, wanted: Floats, hold: Floats | bool = False
) -> tuple[SteerState, Floats, Floats, Floats]:
    """Choose where the wheels point and how fast they roll.

    Parameters
    ----------
    settings : SteerSettings
    state : SteerState
        From `look`.
    wanted : B + (W, 2) float64
        The velocity that each wheel shall have over the ground, forward and left in m/s.
    hold : B bool
        Whether all wheels shall point inwards and stand.

    Returns
    -------
    SteerState
        With the new targets.
    sign : B + (W,) float64
        -1 for wheels that run reversed, because that is the short way.
    share : B + (W,) float64
        The share of its speed that each wheel may have while an angle is missing.
    speed : B + (W,) float64
        Surface speeds in m/s, sign and share in them.

    Notes
    -----
    The short way to an angle is at most a quarter turn: beyond it the wheel goes to the opposite angle and runs
    reversed. With e the angle still missing the share is cos e, which is what of the speed goes the right way.
    """
    size = np.hypot(wanted[..., 0], wanted[..., 1])
    driven = size > settings.threshold
    away = wrap(np.arctan2(wanted[..., 1], wanted[..., 0]) - state.angle)
    reverse = np.abs(away) > NEARLY_A_QUARTER
    short = np.where(reverse, wrap(away + pi), away)
    target = np.where(driven, state.angle + short, state.target)
    sign = np.where(reverse & driven, -1.0, 1.0)
    held = np.asarray(hold, bool)[..., None]
    if held.any():
        inward = wrap(settings.inward - state.angle)
        inward = np.where(np.abs(inward) > NEARLY_A_QUARTER, wrap(inward + pi), inward)
        target = np.where(held, state.angle + inward, target)
        driven = driven & ~held
    share = np.maximum(np.cos(target - state.angle), 0.0) if settings.cosine else np.ones_like(size)
    speed = np.where(driven, sign * size * share, 0.0)
    return SteerState(state.zero, state.angle, target, state.missed), sign, share, speed


def loop(
    settings: SteerSettings, state: SteerState, before: SteerState, dt_s: float, stop: bool
) -> tuple[SteerState, Floats]:
    """Turn the wheels towards their targets.

    Parameters
    ----------
    settings : SteerSettings
    state, before : SteerState
        Of this tick and of the last one, for the rate of turn.
    dt_s : float
    stop : bool
        Whether every motor must rest.

    Returns
    -------
    SteerState, B + (S,) float64
        The integral after the tick, and each steering motor's drive in [-1, 1] with its polarity.

    Notes
    -----
    With e the error (targets are chosen the short way, so it needs no wrapping) and ω the present rate: the wanted rate
    is p·e + i·∫e - d·ω, limited to the wheel's rate; the integral waits while the limit holds (anti-windup). A steering
    motor is taken to turn at a rate proportional to its drive. (Åström & Murray, Feedback Systems, ch. 11.)
    """
    error = (state.target - state.angle)[..., settings.steered]
    turning = (state.angle - before.angle)[..., settings.steered] / dt_s
    turning = np.where(np.isnan(turning), 0.0, turning)
    missed = state.missed + error * dt_s
    wanted = settings.p * error + settings.i * missed - settings.d * turning
    rate = np.maximum(np.minimum(wanted, settings.rate), -settings.rate)
    missed = np.where(rate == wanted, missed, state.missed)
    if stop:
        missed, rate = np.zeros_like(missed), np.zeros_like(rate)
    return SteerState(state.zero, state.angle, state.target, missed), settings.sign * rate / settings.top
