"""Moves that a line can make by itself: straight on for a time or a way, and turn to an angle. Each asks tick by tick."""

from __future__ import annotations

from dataclasses import dataclass, field
from math import inf
from typing import NamedTuple

import numpy as np

from pivrex.line.entry import Entry
from pivrex.line.kinematics import kinematics_of, vectors
from pivrex.line.layout import plain
from pivrex.line.line import Line
from pivrex.line.stage import Floats

__all__ = ["MoveState", "RobotMove", "Straight", "Turn", "Wait", "felt_motion", "straight_of", "turn_of"]

LONGEST_S = 60.0

STEADY_S = 0.2


class MoveState(NamedTuple):
    """Where a batch of robots is in a move, B each.

    Attributes
    ----------
    t : seconds since its beginning.
    begin : the heading at its beginning, rad; NaN before the first tick.
    way : how far it has come: m, or rad of the target.
    rate : how fast the target moves, m/s or rad/s.
    near : for how long it has been within the tolerance, s.
    stands : for how long it has stood at its end, s.
    done : 1 once it is over.
    """

    t: Floats
    begin: Floats
    way: Floats
    rate: Floats
    near: Floats
    stands: Floats
    done: Floats


def felt_motion(line: Line, row: Floats) -> Floats:
    """Give the twist that the wheels' encoders feel in a Tick, B + (3,): forward and left in m/s, turn in rad/s."""
    chassis = line.rig.chassis
    layout, wheels = line.layout, [plain(w) for w in line.wheels]
    speeds = row[..., [layout.at("sensed", f"{w}_speed") for w in wheels]]
    maps = kinematics_of(chassis)
    if maps.hubs is not None:
        speeds = vectors(speeds, row[..., layout.stage("pointing")])
    felt: Floats = np.einsum("kw,...w->...k", maps.forward, speeds)
    return felt


def _profiled(state: MoveState, whole: Floats | float, most: float, rise: float, dt_s: float) -> tuple[Floats, Floats]:
    """Give the rate of a target that starts from where it is and stops at the whole way, and the way after the tick.

    Notes
    -----
    A trapezoid: the rate grows by rise·dt up to the most, and is never more than that from which it can still stop,
    √(2·rise·rest), a tick's way reckoned in. (Biagiotti & Melchiorri, Trajectory Planning, ch. 3.)
    """
    rest = np.abs(np.asarray(whole) - state.way)
    sign = np.sign(np.asarray(whole) - state.way)
    half = 0.5 * rise * dt_s
    stops = np.sqrt(half * half + 2 * rise * rest) - half
    rate = np.minimum(np.minimum(np.abs(state.rate) + rise * dt_s, most), stops)
    rate = np.where(rate * dt_s >= rest, rest / dt_s, rate)
    return sign * rate, state.way + sign * rate * dt_s


@dataclass(frozen=True)
class RobotMove:
    """A move. ``begin`` gives its state before the first tick, ``step`` what it asks for in a tick, from the Tick before."""

    longest_s: float = field(default=LONGEST_S, kw_only=True)

    def begin(self, batch: tuple[int, ...] = ()) -> MoveState:
        """Give the state before the first tick."""
        none = np.zeros(batch)
        return MoveState(none, np.full(batch, np.nan), none, none, none, none, none)

    def step(self, line: Line, state: MoveState, row: Floats) -> tuple[MoveState, Entry]:
        """Give what is asked for in a tick.

        Parameters
        ----------
        line : Line
        state : MoveState
        row : B + (K,) float64
            The last Tick.
        """
        heading = row[..., line.layout.at("heading", "heading")]
        begin = np.where(state.begin == state.begin, state.begin, heading)
        state = state._replace(begin=begin, t=state.t + line.dt_s)
        after, twist, aim = self._ask(line, state, row, heading)
        over = (after.done > 0) | (after.t > self.longest_s)
        stands = np.where(over[..., None], 0.0, twist)
        return after._replace(done=over.astype(float)), Entry(twist=stands, aim=aim)

    def _ask(self, line: Line, state: MoveState, row: Floats, heading: Floats) -> tuple[MoveState, Floats, Floats]:
        raise NotImplementedError


@dataclass(frozen=True)
class Wait(RobotMove):
    """Stand and hold the heading, or (``held`` false) just stand, for ``longest_s``."""

    held: bool = True

    def _ask(self, line: Line, state: MoveState, row: Floats, heading: Floats) -> tuple[MoveState, Floats, Floats]:
        aim = state.begin if self.held else np.full_like(heading, np.nan)
        return state, np.zeros((*heading.shape, 3)), aim


@dataclass(frozen=True)
class Straight(RobotMove):
    """Straight on, or straight to a side, at a speed.

    Attributes
    ----------
    distance_m : float
        How far by the encoders, below 0 backwards; infinite to go by time alone.
    speed_m_s, rise_m_s2 : float
        At most, and how fast that may change.
    held : bool
        Whether the gyro keeps the heading.
    aside : bool
        To the left instead of forward.
    settle_s : float
        At most so long it stands at the end while the gyro still holds the heading: what a motor pulled aside has to be
        unlearnt by then.
    tolerance_rad : float
        Or until the heading has been this near for `STEADY_S`.
    """

    distance_m: float = inf
    speed_m_s: float = 0.5
    rise_m_s2: float = 1.0
    held: bool = True
    aside: bool = False
    settle_s: float = 2.0
    tolerance_rad: float = 0.004

    def _ask(self, line: Line, state: MoveState, row: Floats, heading: Floats) -> tuple[MoveState, Floats, Floats]:
        k = 1 if self.aside else 0
        # before its first tick nothing has been felt of this move
        gone = np.where(state.t > 1.5 * line.dt_s, felt_motion(line, row)[..., k] * line.dt_s, 0.0)
        way = state.way + gone
        whole = self.distance_m if np.isfinite(self.distance_m) else 1e6
        rate, _ = _profiled(state._replace(way=way), whole, self.speed_m_s, self.rise_m_s2, line.dt_s)
        twist = np.zeros((*heading.shape, 3))
        there = ((way - whole) * np.sign(whole) > -0.002) | (state.stands > 0)
        twist[..., k] = np.where(there, 0.0, rate)
        stands = np.where(there, state.stands + line.dt_s, 0.0)
        right = there & (np.abs(heading - state.begin) < self.tolerance_rad)
        near = np.where(right, state.near + line.dt_s, 0.0)
        done = (near >= STEADY_S) | (stands >= (self.settle_s if self.held else line.dt_s))
        aim = state.begin if self.held else np.full_like(heading, np.nan)
        return state._replace(way=way, rate=rate, near=near, stands=stands, done=done.astype(float)), twist, aim


@dataclass(frozen=True)
class Turn(RobotMove):
    """Turn by an angle on the spot, to the left if it is above 0; several turns if it is that much.

    Attributes
    ----------
    angle_rad : float
    rate_rad_s, rise_rad_s2 : float
        How fast the target turns at most, and how fast that may change.
    tolerance_rad, within_s : float
        It is done once the heading has been this near for so long.
    """

    angle_rad: float = 0.0
    rate_rad_s: float = 2.0
    rise_rad_s2: float = 6.0
    tolerance_rad: float = 0.014
    within_s: float = 0.2

    def _ask(self, line: Line, state: MoveState, row: Floats, heading: Floats) -> tuple[MoveState, Floats, Floats]:
        rate, way = _profiled(state, self.angle_rad, self.rate_rad_s, self.rise_rad_s2, line.dt_s)
        aim = state.begin + way
        missing = np.abs(state.begin + self.angle_rad - heading)
        near = np.where(missing < self.tolerance_rad, state.near + line.dt_s, 0.0)
        twist = np.zeros((*heading.shape, 3))
        twist[..., 2] = rate
        done = (near >= self.within_s) & (np.abs(way - self.angle_rad) < 1e-9)
        return state._replace(way=way, rate=rate, near=near, done=done.astype(float)), twist, aim


def turn_of(line: Line, angle_rad: float) -> Turn:
    """Give the turn by an angle as the rig's correction says."""
    c = line.rig.correction
    assert c is not None
    return Turn(
        angle_rad=angle_rad,
        rate_rad_s=c.turn_rate_rad_s or line.rig.full_turn_rad_s / 2,
        rise_rad_s2=c.turn_rise_rad_s2,
        tolerance_rad=c.tolerance_rad,
        within_s=c.within_s,
    )


def straight_of(line: Line, distance_m: float, held: bool = True, speed_m_s: float | None = None) -> Straight:
    """Give a straight drive at half of the full speed, as the rig's correction says."""
    c = line.rig.correction
    rise = c.speed_rise_m_s2 if c is not None else 1.0
    return Straight(distance_m, speed_m_s or line.rig.full_forward_m_s / 2, rise, held)
