"""Learns the motors from a drive: the drive for friction, for speed, and for acceleration."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from pivrex.errors import LearnError
from pivrex.line.layout import Floats
from pivrex.runs.learning.drive import Drive
from pivrex.runs.learning.fit import Fit, fit

__all__ = ["GENTLE_M_S2", "MAX_S", "MOVES_M_S", "Windows", "motors_of", "windows_of"]

REACH = 3
"""Ticks either way over which a wheel's speed at an instant is taken: its counts are too coarse for less."""

QUIET = 0.02
"""A drive that changes by more than this in a tick is no instant to take a speed at."""

MIN_S, MAX_S = 0.33, 1.6
"""How long a window is."""

MOVES_M_S = 0.05
MIN_WINDOWS = 25

GENTLE_M_S2 = 1.5
"""What is brought to speed harder may slide."""

MIN_SHARE = 0.3
"""A wheel that hardly rolls while the robot drives ahead tells nothing of it."""

STRAIGHT = 0.15
"""How much of its speed, and a little more, may the sides differ where it is said to drive straight."""


class Windows(NamedTuple):
    """Stretches between instants at which nothing jumps, V of them, for M motors.

    Attributes
    ----------
    own_drive, own_speed, own_rise : (V, M) float64
        The mean drive at nominal voltage, the mean speed and the mean acceleration of the motor's wheels, in m/s and m/s².
    own_begins, own_ends : (V, M) float64
        The speeds at both ends.
    signs : (M,) float64
        Which way the motor's wheels roll while the robot drives ahead.
    length_s, first : (V,)
        How long each is, and its first tick.
    last : int
        The last tick of the last one.
    at_ticks : (N, M) float64
        The speeds at all ticks.
    """

    own_drive: Floats
    own_speed: Floats
    own_rise: Floats
    own_begins: Floats
    own_ends: Floats
    signs: Floats
    length_s: Floats
    first: NDArray[np.intp]
    last: int
    at_ticks: Floats

    @property
    def drive(self) -> Floats:
        """The mean drive, positive ahead."""
        return self.own_drive * self.signs

    @property
    def speed(self) -> Floats:
        """The mean speed, positive ahead."""
        return self.own_speed * self.signs

    @property
    def rise(self) -> Floats:
        """The mean acceleration, positive ahead."""
        return self.own_rise * self.signs

    @property
    def begins(self) -> Floats:
        """The speeds at the beginning, positive ahead."""
        return self.own_begins * self.signs

    @property
    def ends(self) -> Floats:
        """The speeds at the end, positive ahead."""
        return self.own_ends * self.signs


def windows_of(drive: Drive, volts: float) -> Windows:
    """Cut a drive into windows.

    Notes
    -----
    Between two instants the motor's equation, drive = static·sgn v + k·v + a·dv/dt, is integrated exactly: the mean drive is
    static·sgn + k·(way/time) + a·(v1 - v0)/time. Only speeds at the two ends must be taken, each the slope of a line through
    2·`REACH` + 1 counts.
    """
    drives_given = drive.drive[:-1] * (drive.volts[1:] / volts)[:, None]
    count = drive.drive.shape[1]
    signs = np.array([np.sign(drive.ahead[drive.motor_of == m].mean()) or 1.0 for m in range(count)])
    way = np.column_stack([drive.travel[:, drive.motor_of == m].mean(axis=1) for m in range(count)])
    lags = np.arange(-REACH, REACH + 1)
    kernel = lags / (lags @ lags) / drive.dt_s
    speed = np.full_like(way, np.nan)
    if len(way) > 2 * REACH:
        for m in range(count):
            speed[REACH:-REACH, m] = np.convolve(way[:, m], kernel[::-1], "valid")
    jumps = np.abs(np.diff(drives_given, axis=0, prepend=drives_given[:1])).max(axis=1) > QUIET
    jumps |= drive.stopped[:-1] & (np.abs(speed[:-1]) > MOVES_M_S).any(axis=1)
    near = np.convolve(jumps, np.ones(2 * REACH + 2), "same") > 0
    step = round(MIN_S / drive.dt_s)
    at: list[int] = []
    for i in np.flatnonzero(~near).tolist():
        if REACH <= i < len(drives_given) - REACH and (not at or i - at[-1] >= step):
            at.append(i)
    edges = np.array(at, int)
    length = np.diff(edges) * drive.dt_s
    whole = np.concatenate((np.zeros((1, count)), np.cumsum(drives_given, axis=0)))
    each = length[:, None]
    return Windows(
        own_drive=np.diff(whole[edges], axis=0) * drive.dt_s / each,
        own_speed=np.diff(way[edges], axis=0) / each,
        own_rise=np.diff(speed[edges], axis=0) / each,
        own_begins=speed[edges[:-1]],
        own_ends=speed[edges[1:]],
        signs=signs,
        length_s=length,
        first=edges[:-1],
        last=int(edges[-1]) if len(edges) else 0,
        at_ticks=speed[:-1],
    )


def motors_of(windows: Windows, share: Floats) -> Fit:
    """Find what the motors need, all together: static drive, drive for each m/s and for each m/s².

    ``share``, (M,), is how fast each motor's wheels roll for each m/s ahead.

    Raises
    ------
    LearnError
        If the drive cannot tell, with what to drive.
    """
    w = windows
    drives = np.abs(share) > MIN_SHARE
    pattern = np.abs(share[drives])
    mean = (w.speed[:, drives] / pattern).mean(axis=1)
    way = np.sign(mean)

    def straight(of_motors: Floats) -> NDArray[np.bool_]:
        speeds = of_motors[:, drives] / pattern
        flags: NDArray[np.bool_] = np.ptp(speeds, axis=1) < STRAIGHT * np.abs(speeds.mean(axis=1)) + 0.03
        return flags

    one_way = ((np.sign(w.begins) == way[:, None]) & (np.sign(w.ends) == way[:, None]))[:, drives].all(axis=1)
    good = straight(w.speed) & straight(w.begins) & straight(w.ends) & one_way & (np.abs(mean) > MOVES_M_S)
    good &= (w.length_s < MAX_S) & (np.abs(w.rise.mean(axis=1)) < GENTLE_M_S2)
    count = int(good.sum())
    if count < MIN_WINDOWS:
        raise LearnError(
            f"there is not enough straight driving: {count} of {MIN_WINDOWS} stretches. "
            "Drive straight, slowly and fast, forward and back"
        )
    speeds = np.abs(mean[good])
    if np.percentile(speeds, 90) < 1.6 * np.percentile(
        speeds, 10
    ):  # friction and speed cannot be separated at one speed
        raise LearnError(
            f"it drives at about one speed only, {np.median(speeds):.2f} m/s: drive slowly and fast too, or friction and speed "
            "cannot be told apart"
        )
    if min((mean[good] > 0).mean(), (mean[good] < 0).mean()) < 0.05:
        way[:] = np.sign(mean.sum())  # one way only is learned too; what differs between the ways is not

    places = np.flatnonzero(drives)
    of_all = [values[good][:, places].mean(axis=1) for values in (w.speed, w.rise, w.drive)]
    return fit(np.column_stack([way[good], of_all[0], of_all[1]]), of_all[2])
