"""Learns turning: the effective track, the gyro's bias, and its scale from a turn that someone watched."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from pivrex.errors import LearnError
from pivrex.runs.learning.drive import Drive
from pivrex.runs.learning.fit import fit

__all__ = ["Value", "bias_of", "scale_of", "scrub_of"]

STANDS_M = 1e-4
"""A wheel that moves less in a tick stands."""

SETTLES_S, STANDS_S = 0.5, 1.0
"""How long after it came to rest it counts as standing, and so long it must stand then."""

WINDOW_S = 0.5
TURNS_RAD_S = 0.4
MIN_TURNS = 12
MIN_TURN_RAD = 2 * np.pi


class Value(NamedTuple):
    """A value with its one sigma."""

    value: float
    sigma: float


def _standing(drive: Drive) -> list[tuple[int, int]]:
    """Return the stretches in which the robot stands: from which tick to which."""
    moves = (np.abs(np.diff(drive.travel, axis=0)) > STANDS_M).any(axis=1) | (np.abs(drive.drive[:-1]) > 0).any(axis=1)
    edges = np.flatnonzero(np.diff(np.concatenate(([True], moves, [True])).astype(int)))
    settles = round(SETTLES_S / drive.dt_s)
    found = []
    for begin, end in edges.reshape(-1, 2).tolist():
        first = begin + (settles if begin > 0 else 0)
        if (end - first) * drive.dt_s >= STANDS_S:
            found.append((first, end))
    return found


def bias_of(drive: Drive) -> Value:
    """Find the gyro's bias, in rad/s: how fast it turns while the robot stands.

    Raises
    ------
    LearnError
        If the robot hardly stands.

    Notes
    -----
    Of each stretch the slope from its first to its last reading; of white noise of the rate with a spread s a slope over T seconds
    has s·√(dt/T). Where there are three stretches or more, their own spread counts too: a bias wanders.
    """
    gyro = drive.gyro
    if gyro is None:
        raise LearnError("the rig has no gyro, or it says nothing")
    stands = _standing(drive)
    total = sum(end - begin for begin, end in stands) * drive.dt_s
    if total < 2 * STANDS_S:
        raise LearnError(
            f"it stood still for {total:.1f} s only: let it stand for several seconds, best at the start and at the end"
        )
    lengths = np.array([(end - begin) * drive.dt_s for begin, end in stands])
    slopes = np.array([gyro[end] - gyro[begin] for begin, end in stands]) / lengths
    steps = np.concatenate([np.diff(gyro[begin : end + 1]) for begin, end in stands]) / drive.dt_s
    value = float((slopes * lengths).sum() / lengths.sum())
    sigma = float(np.std(steps)) * np.sqrt(drive.dt_s / total)
    if len(slopes) >= 3:
        own = np.std(steps) * np.sqrt(drive.dt_s / lengths)
        wanders = max(0.0, float(np.var(slopes, ddof=1) - (own**2).mean()))
        sigma = float(np.sqrt(sigma**2 + wanders / len(slopes)))
    return Value(value, sigma)


def scrub_of(drive: Drive, bias: float, scale: float) -> Value:
    """Find how many times wider the track acts than it is: the turn that wheels say over the turn that is.

    Raises
    ------
    LearnError
        If the drive cannot tell, with what to drive.
    """
    gyro = drive.gyro
    if gyro is None:
        raise LearnError("the rig has no gyro, or it says nothing")
    if drive.turns is None:
        raise LearnError("steered wheels point where they roll: there is no track to learn")
    step = round(WINDOW_S / drive.dt_s)
    edges = np.arange(0, len(drive), step)
    length = step * drive.dt_s
    turned = (np.diff(gyro[edges]) - bias * length) / (1.0 + scale)
    said = np.diff(drive.travel[edges], axis=0) @ drive.turns
    turns = np.abs(turned) > TURNS_RAD_S * length
    if turns.sum() < MIN_TURNS:
        raise LearnError("it hardly turns: turn it on the spot, both ways, slowly and fast")
    found = fit(turned[turns][:, None], said[turns])
    return Value(float(found.values[0]), float(found.sigma[0]))


def scale_of(drive: Drive, bias: Value, turned_rad: float, within_rad: float) -> Value:
    """Find the gyro's scale error: how much too much it says of a turn, from a whole turn that someone has seen.

    Parameters
    ----------
    turned_rad, within_rad : float
        How far the robot truly turned from the first time it stood to the last, and how exactly that is known (one sigma).

    Raises
    ------
    LearnError
        If it does not stand at both ends, or turned too little.
    """
    gyro = drive.gyro
    if gyro is None:
        raise LearnError("the rig has no gyro, or it says nothing")
    if abs(turned_rad) < MIN_TURN_RAD:
        raise LearnError("a turn of less than 360 deg is too short to find a scale: turn ten times in one direction")
    stands = _standing(drive)
    if len(stands) < 2:
        raise LearnError("it must stand before the turns and behind them")
    begin, end = stands[0][1], stands[-1][0]
    time = (end - begin) * drive.dt_s
    value = (float(gyro[end] - gyro[begin]) - bias.value * time) / turned_rad - 1.0
    noise = float(np.std(np.diff(gyro[stands[0][0] : begin + 1]))) * np.sqrt(end - begin)
    sigma = float(np.sqrt((bias.sigma * time) ** 2 + within_rad**2 + noise**2)) / abs(turned_rad)
    if abs(value) > 0.3:
        raise LearnError(
            f"the gyro says {np.degrees(gyro[end] - gyro[begin]):.0f} deg: that is no turn of {np.degrees(turned_rad):.0f} deg"
        )
    return Value(value, sigma)
