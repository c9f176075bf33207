"""A step of a real body: battery, motors, steering, floor and walls, all solved for together."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from pivrex.line.stage import some
from pivrex.line.values import Ops, Value, joined, parts, single
from pivrex.sim.body.feed import friction, sagged
from pivrex.sim.body.ground import Held, Sums, Touch, added, floored, holding, loads_of, passing, solve, touches_of
from pivrex.sim.body.settings import BodySettings
from pivrex.sim.body.state import BodyState
from pivrex.sim.body.walls import Near, Walls

__all__ = ["RESTART_S", "Mechanics", "Moving"]

RESTART_S = 1.0
"""So long the electronics take to start again after the battery sagged."""

RELEASES = 4
"""So often contacts that would have to pull are let go in a step."""

STIFF = 1000.0
"""A wall is this many times as hard to push as the robot itself."""

AGAIN, BREAKS = 3, 1.03
"""A step in which a tyre slides is solved again, at most this often, while its slip changes by more than this factor."""

SLOW_M_S = 0.02
"""A tyre that slips no faster along either direction does not slide, whatever its grip."""

FELT_M_S = 0.002
"""What stands in the way counts as a bump once it takes this much speed in a step."""

SLIDES_M_S = 0.02
PUSHED_OUT_M = 0.002
"""A body that overlaps something is moved out by at most this in a step, without getting any speed from it."""


class Moving:
    """What changes within a tick, as values."""

    def __init__(self, state: BodyState) -> None:
        self.v, self.spin, self.torque, self.felt = (
            parts(a) for a in (state.velocity, state.spin, state.torque, state.felt)
        )
        self.pose = parts(state.pose)
        self.angle, self.turning = parts(state.angle), parts(state.turning)
        self.charge, self.volts, self.restart = (single(a) for a in (state.charge, state.volts, state.restart))
        self.rolled: list[Value] = [0.0] * len(self.spin)
        self.blocked: Value = 0.0
        self.slip: list[Value] = []
        self.load: list[Value] = []


class Mechanics:
    """How a body moves within a tick.

    Parameters
    ----------
    settings : BodySettings
    walls : Walls
    steer_lag_s : float
        How long steering motors take to follow.
    """

    def __init__(self, settings: BodySettings, walls: Walls, steer_lag_s: float) -> None:
        self._settings, self._walls, self._lag = settings, walls, steer_lag_s

    def step(
        self, o: Ops, m: Moving, share: list[Value], coasting: Value, steer: list[Value],
        back: Value, lifted: Value, h: float,
    ) -> None:  # fmt: skip
        s = self._settings
        awake = m.restart <= 0.0
        duty = [o.where(awake, d, 0.0) for d in share]
        fed = [o.where(coasting | (s.coasts & (d == 0.0)), 0.0, 1.0) for d in duty]
        self._feed(o, s, m, duty, fed, h)
        self._steer(o, m, steer, awake, h)
        mixed = bool(o.some(back != 0)) and bool(o.some(back == 0))
        on_floor = o.where(lifted != 0, 0.0, 1.0)
        m.load = loads_of(o, s, m.felt, back, mixed, on_floor)
        touches = touches_of(o, s, m.angle, m.load, back, mixed)
        base = self._motor_sums(o, s, m, duty, fed, lifted, h)
        held = [holding(o, touch, passing(touch, m.v, m.spin)) for touch in touches]
        sums = floored(touches, held, base, h)
        v, spin = solve(o, sums)
        slips = [passing(touch, v, spin) for touch in touches]
        for _ in range(AGAIN):
            held, again = self._slipping(o, touches, held, slips)
            if not again:
                break
            sums = floored(touches, held, base, h)
            v, spin = solve(o, sums)
            slips = [passing(touch, v, spin) for touch in touches]
        centre = (s.centre[0], o.where(back != 0, -s.centre[1], s.centre[1]))
        free = v
        v, spin = self._walled(o, s, m, sums, v, spin, centre, h)
        if v is not free:
            slips = [passing(touch, v, spin) for touch in touches]
        v = [o.where(lifted != 0, 0.0, one) for one in v]
        settle = s.board(h)
        m.felt = [f + ((new - old) / h - f) * settle for f, new, old in zip(m.felt, v, m.v, strict=False)]
        self._slide(o, m, touches, held, slips)
        m.rolled = [r + w * h for r, w in zip(m.rolled, spin, strict=True)]
        m.spin = spin
        self._move(o, m, v, centre, h)

    def _feed(self, o: Ops, s: BodySettings, m: Moving, duty: list[Value], fed: list[Value], h: float) -> None:
        """The battery: its voltage now, what is taken from it, and electronics that start again when it sags."""
        volts, amps = sagged(o, s, m.charge, duty, m.spin, fed)
        m.volts = volts
        m.charge = o.most(m.charge - amps * (h / s.capacity), 0.0)
        m.restart = o.where((volts < s.least) & (m.restart <= 0.0), RESTART_S, o.most(m.restart - h, 0.0))

    def _steer(self, o: Ops, m: Moving, steer: list[Value], awake: Value, h: float) -> None:
        """Steering motors follow with a lag, as fast as the battery lets them."""
        if not steer:
            return
        decay = float(np.exp(-h / self._lag))
        memory = self._lag * (1 - decay)
        power = o.where(awake, m.volts / self._settings.volts, 0.0)
        for k, wanted in enumerate(steer):
            target = wanted * power
            gap = m.turning[k] - target
            m.angle[k] = m.angle[k] + (target * h + gap * memory)
            m.turning[k] = target + gap * decay

    @staticmethod
    def _motor_sums(
        o: Ops, s: BodySettings, m: Moving, duty: list[Value], fed: list[Value], lifted: Value, h: float
    ) -> Sums:
        """The equations without a floor: a body by itself, motors with their torque and friction."""
        d, q = [], []
        for motor, w, reaction, share, on in zip(s.motors, m.spin, m.torque, duty, fed, strict=True):
            push = motor.stall * motor.strength * share * on * (m.volts / s.volts)
            slope = motor.stall / motor.free * on
            breakaway = o.where(lifted != 0, motor.lifted, motor.breakaway)
            rub = friction(o, w, push - slope * w + reaction, breakaway, motor.running)
            d.append(motor.inertia + h * (slope + rub))
            q.append(motor.inertia * w + h * push)
        none: list[Value] = [0.0, 0.0, 0.0]
        a: list[Value] = [s.mass, 0.0, 0.0, s.mass, 0.0, s.inertia]
        r = [s.mass * m.v[0], s.mass * m.v[1], s.inertia * m.v[2]]
        return Sums(a, [list(none) for _ in d], d, r, q)

    @staticmethod
    def _slipping(
        o: Ops, touches: list[Touch], held: list[Held], slips: list[tuple[Value, Value]]
    ) -> tuple[list[Held], bool]:
        """Give what contacts are held by where they slide otherwise at the end of the step than at its beginning, and whether
        any does: else a tyre that breaks loose would hold for a step by more than its friction.
        """
        found, again = [], False
        for touch, hold, slip in zip(touches, held, slips, strict=True):
            if not o.some((o.most(abs(slip[0]), abs(slip[1])) > SLOW_M_S) | (hold.size > touch.loose)):
                found.append(hold)
                continue
            now = holding(o, touch, slip)
            other = (now.size > BREAKS * hold.size) | (now.size * BREAKS < hold.size)
            slides = other & (o.most(now.size, hold.size) > touch.loose)
            if o.some(slides):
                again = True
                now = Held(*(o.where(slides, new, old) for new, old in zip(now, hold, strict=True)))
                found.append(now)
            else:
                found.append(hold)
        return found, again

    @staticmethod
    def _slide(o: Ops, m: Moving, touches: list[Touch], held: list[Held], slips: list[tuple[Value, Value]]) -> None:
        """Note how each tyre slides, and what the floor does to each motor."""
        m.slip, torque = [], [0.0] * len(m.spin)
        for touch, hold, (s1, s2) in zip(touches, held, slips, strict=True):
            m.slip.append(o.sqrt(s1 * s1 + s2 * s2) if touch.contact.plain else abs(s1))
            k = touch.contact.motor
            if k >= 0:
                torque[k] = torque[k] + (hold.first * s1 * touch.rolls[0] + hold.second * s2 * touch.rolls[1])
        m.torque = torque

    @staticmethod
    def _move(o: Ops, m: Moving, v: list[Value], centre: tuple[float, Value], h: float) -> None:
        """Move the pose along the velocity, and turn the velocity with the body."""
        vx, vy, w = v
        half = w * (0.5 * h)
        middle = m.pose[2] + half
        c, sn = o.turned(middle)
        # of the robot's centre, which the pose is of
        px, py = vx + w * centre[1], vy - w * centre[0]
        m.pose = [m.pose[0] + (c * px - sn * py) * h, m.pose[1] + (sn * px + c * py) * h, m.pose[2] + w * h]
        c, sn = o.turned(2.0 * half)
        m.v = [vx * c + vy * sn, vy * c - vx * sn, w]

    # --- what stands in the way ---

    def _walled(
        self, o: Ops, s: BodySettings, m: Moving, sums: Sums, v: list[Value], spin: list[Value],
        centre: tuple[float, Value], h: float,
    ) -> tuple[list[Value], list[Value]]:  # fmt: skip
        """Solve again where the body would run into something; else all stays as it is.

        Notes
        -----
        Where the gap g would be closed within the step, the body may come nearer by no more than g/h: a stiff damper
        towards that speed, solved for together with all else. What pushed is known then, and friction of the body on what
        it touches is added and solved for likewise. Both only take speed away.
        """
        batch = np.shape(m.pose[0])
        reach = 0.05
        if batch:
            pose = joined(m.pose, batch)
            if not self._walls.some_may_touch(pose[..., :2], reach):
                return v, spin
        elif self._walls.may_touch(m.pose[0], m.pose[1], reach):
            pose = np.array(m.pose)
        else:
            return v, spin
        near = self._walls.near(pose, joined(centre, batch))
        open_gap = np.maximum(near.gap, 0.0) / h
        coming = (near.push * joined(v, batch)[..., None, :]).sum(axis=-1)
        held = (coming < -open_gap) & (near.gap < reach)
        if not some(held):
            return v, spin
        stiff = np.where(held, STIFF * np.asarray(s.mass, float)[..., None], 0.0)
        for _ in range(RELEASES):
            pressed = added(sums, near.push, stiff, -open_gap, batch)
            first, _ = solve(o, pressed)
            moving = joined(first, batch)[..., None, :]
            raw = stiff * (-open_gap - (near.push * moving).sum(axis=-1))
            if not some(raw < 0):
                break
            stiff = np.where(raw < 0, 0.0, stiff)  # nothing pulls: what would have to is let go
        force = np.maximum(raw, 0.0)
        if s.bumper:
            aside = np.abs((near.along * moving).sum(axis=-1))
            rub = s.bumper * force / np.maximum(aside, SLIDES_M_S)
            pressed = added(pressed, near.along, rub, np.zeros_like(rub), batch)
        new, turning = solve(o, pressed)
        touched = force.sum(axis=-1) * h > FELT_M_S * np.asarray(s.mass, float)
        m.blocked = o.where(touched if batch else bool(touched), 1.0, m.blocked)
        pushed = (force > 0).any(axis=-1)
        self._push_out(m, near, pushed, batch)
        flag = pushed if batch else bool(pushed)
        return (
            [o.where(flag, a, b) for a, b in zip(new, v, strict=True)],
            [o.where(flag, a, b) for a, b in zip(turning, spin, strict=True)],
        )

    @staticmethod
    def _push_out(m: Moving, near: Near, pushed: NDArray[np.bool_], batch: tuple[int, ...]) -> None:
        """Move bodies that overlap something out of it, a little in each step."""
        deepest = np.argmin(near.gap, axis=-1)
        gap = np.take_along_axis(near.gap, deepest[..., None], axis=-1)[..., 0]
        if not some((gap < 0) & pushed):
            return
        way = np.take_along_axis(near.away, deepest[..., None, None], axis=-2)[..., 0, :]
        out = np.where(pushed, np.minimum(np.maximum(-gap, 0.0), PUSHED_OUT_M), 0.0)
        for k in (0, 1):
            m.pose[k] = m.pose[k] + single(np.asarray(way[..., k] * out))
