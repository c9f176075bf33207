"""Steering: which way each steered wheel shall point, how fast it may roll meanwhile, and the loop that turns it there."""

from __future__ import annotations

from dataclasses import dataclass
from math import pi
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from pivrex.rig.rig import Rig

__all__ = ["Aim", "SteerSettings", "SteerState", "aim", "look", "loop", "settings_of", "start", "wrap"]

Floats = NDArray[np.float64]

NEARLY = 1e-9
"""What counts as nothing beside 1."""


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
    rate : (S,) float64
        The fastest that the motor turns the wheel, and may, in rad/s.
    per_top : (S,) float64
        The drive of each rad/s, negative for a reversed motor.
    any_by_sensor, any_i, any_d : bool
        What there is to compute.
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
    rate: Floats
    per_top: Floats
    any_by_sensor: bool
    any_i: bool
    any_d: bool


class SteerState(NamedTuple):
    """What the steering remembers.

    Attributes
    ----------
    begun : bool
        Whether there has been a tick.
    zero : B + (S,) float64
        What is added to the encoder's angle.
    angle : B + (W,) float64
        Where the wheels pointed last, in rad, unwrapped.
    target : B + (W,) float64
        Where they were to point.
    missed : B + (S,) float64
        The loop's integral, in rad·s.
    """

    begun: bool
    zero: Floats
    angle: Floats
    target: Floats
    missed: Floats


class Aim(NamedTuple):
    """What steered wheels do in a tick.

    Attributes
    ----------
    sign : B + (W,) float64
        -1 for wheels that run reversed, because that is the short way.
    size : B + (W,) float64
        How fast the wheels are wanted to roll, in m/s.
    share : B + (W,) float64
        The share of its speed that each wheel may have while an angle is missing.
    speed : B + (W,) float64
        Surface speeds in m/s, sign and share in them.
    vectors : B + (W, 2) float64
        Velocities over the ground, along where the wheels point now.
    """

    sign: Floats
    size: Floats
    share: Floats
    speed: Floats
    vectors: Floats


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
        rate=np.minimum(top, [m.rate_rad_s if m.rate_rad_s is not None else np.inf for m in motors]),
        per_top=np.array([-1.0 if m.reversed else 1.0 for m in motors]) / top,
        any_by_sensor=any(m.counts_per_turn == 0 for m in motors),
        any_i=any(m.i for m in motors),
        any_d=any(m.d for m in motors),
    )


def start(settings: SteerSettings, batch: tuple[int, ...]) -> SteerState:
    """Give the state before the first tick."""
    w, s = (*batch, len(settings.fixed)), (*batch, len(settings.steered))
    return SteerState(False, np.zeros(s), np.zeros(w), np.zeros(w), np.zeros(s))


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
    if state.begun and not settings.any_by_sensor:
        now = turned + state.zero
        return SteerState(True, state.zero, _placed(settings, now), state.target, state.missed)
    share = np.where(np.isnan(settings.full), 0.0, absolute / np.where(np.isnan(settings.full), 1.0, settings.full))
    pointing = settings.sense * (share * 2 * pi - settings.offset)
    zero = state.zero if state.begun else wrap(pointing) - turned
    near = state.angle[..., settings.steered] if state.begun else wrap(pointing)
    now = np.where(settings.by_sensor, near + wrap(pointing - near), turned + zero)
    angle = _placed(settings, now)
    return SteerState(True, zero, angle, state.target if state.begun else angle, state.missed)


def _placed(settings: SteerSettings, steered: Floats) -> Floats:
    """Put the angles of the steered wheels, B + (S,), among those of all wheels, B + (W,)."""
    if len(settings.steered) == len(settings.fixed):
        return steered
    angle = np.empty((*steered.shape[:-1], len(settings.fixed)))
    angle[:] = settings.fixed
    angle[..., settings.steered] = steered
    return angle


def aim(
    settings: SteerSettings, state: SteerState, wanted: Floats, hold: NDArray[np.bool_] | bool = False
) -> tuple[SteerState, Aim]:
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
    Aim

    Notes
    -----
    The short way to an angle is at most a quarter turn: a wheel that would have to turn farther goes to the opposite
    angle and runs reversed; at exactly a quarter it is not. With e the angle still missing the share is cos e, so that a
    wheel rolls with what of the wanted velocity lies along it.
    """
    # in the wheel's own directions, as it stands now
    c, s = np.cos(state.angle), np.sin(state.angle)
    forward, left = wanted[..., 0], wanted[..., 1]
    along, across = forward * c + left * s, left * c - forward * s
    size = np.hypot(forward, left)
    driven = size > settings.threshold
    reach = np.abs(along)
    sign = np.where(along < -NEARLY * size, -1.0, 1.0)
    target = np.where(driven, state.angle + np.arctan2(across * sign, reach), state.target)
    if hold is not False and np.count_nonzero(hold):
        held = np.asarray(hold, bool)[..., None]
        inward = wrap(settings.inward - state.angle)
        inward = np.where(np.abs(inward) > pi / 2, inward - np.copysign(pi, inward), inward)
        target = np.where(held, state.angle + inward, target)
        driven = driven & ~held
    share = np.where(driven, reach / np.maximum(size, NEARLY), 1.0) if settings.cosine else np.ones_like(size)
    speed = (along if settings.cosine else sign * size) * driven
    vectors = np.empty(wanted.shape)
    vectors[..., 0], vectors[..., 1] = speed * c, speed * s
    after = SteerState(True, state.zero, state.angle, target, state.missed)
    return after, Aim(sign, size, share, speed, vectors)


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
    if stop:
        still = np.zeros_like(state.missed)
        return SteerState(True, state.zero, state.angle, state.target, still), still
    error, turning = state.target - state.angle, state.angle - before.angle
    if len(settings.steered) != len(settings.fixed):
        error, turning = error[..., settings.steered], turning[..., settings.steered]
    wanted = settings.p * error
    missed = state.missed
    if settings.any_i:
        missed = missed + error * dt_s
        wanted = wanted + settings.i * missed
    if settings.any_d and before.begun:
        wanted = wanted - settings.d * (turning / dt_s)
    rate = np.maximum(np.minimum(wanted, settings.rate), -settings.rate)
    if settings.any_i:
        missed = np.where(rate == wanted, missed, state.missed)
    return SteerState(True, state.zero, state.angle, state.target, missed), rate * settings.per_top
