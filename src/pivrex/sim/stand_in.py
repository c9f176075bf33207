"""The perfect stand-in: wheels that follow with a lag, exact motion, and a field that stops it. For one robot or a batch."""

from __future__ import annotations

from math import exp
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from pivrex.line.kinematics import kinematics_of, vectors
from pivrex.line.outputs import decode
from pivrex.line.se2 import move
from pivrex.line.stage import Floats, some
from pivrex.rig.field import Field
from pivrex.rig.rig import Rig
from pivrex.sim.bumps import Obstacles
from pivrex.sim.fitted import STEER_LAG, Fitted, carried_over
from pivrex.sim.wiring import Wiring

__all__ = ["StandIn", "StandInState"]

COAST_LAG = 8.0
"""How much longer a wheel that coasts rolls on than one whose motor is told to rest."""

HALVINGS = 8
"""A displacement that does not fit is halved this often: under a tenth of a millimetre a tick at 1 m/s."""


class StandInState(NamedTuple):
    """Where B stand-ins are and how their W wheels turn, S of them steered.

    Attributes
    ----------
    travel, speed : B + (W,) float64
        How far each wheel has rolled, in m, and its surface speed in m/s.
    pose : B + (3,) float64
        x and y in m, heading in rad.
    blocked : B float64
        Whether the last tick ended at something.
    angle, turning, begin : B + (S,) float64
        Where each steered wheel points, in rad, how fast it turns, in rad/s, and where it pointed when it was switched on.
    gyro : B float64
        How far the body has turned about its own upward axis, in rad.
    lifted : B float64
        Whether it stands on a block with its wheels up.
    over : B float64
        Whether it lies on its back.
    attached : B + (P,) float64
        Where each attachment with an encoder is, in rad.
    """

    travel: Floats
    speed: Floats
    pose: Floats
    blocked: Floats
    angle: Floats
    turning: Floats
    begin: Floats
    gyro: Floats
    lifted: Floats
    upside_down: Floats
    attached: Floats


class StandIn(Fitted):
    """A perfect robot that is not there. Commands in, sensed values out."""

    def __init__(self, rig: Rig, field: Field | None = None, wiring: Wiring | None = None) -> None:
        super().__init__(rig, field, wiring)
        self._maps, self._maps_upside_down = kinematics_of(rig.chassis), kinematics_of(rig.chassis, upside_down=True)
        self._fixed = np.array([w.drive_rad for w in rig.chassis.wheels])
        self._obstacles = Obstacles(field, rig.chassis.length_m, rig.chassis.width_m)

    def start(self, batch: tuple[int, ...] = (), seeds: NDArray[np.uint64] | None = None) -> StandInState:
        """Give the state at the field's start, wheels at rest.

        ``seeds``, B uint64: where steered wheels happen to point is drawn for each robot; the same everywhere without.
        """
        w = (*batch, len(self._fixed))
        pose, begin = self._begin(batch, seeds)
        none = np.zeros(batch)
        return StandInState(
            travel=np.zeros(w),
            speed=np.zeros(w),
            pose=pose,
            blocked=none,
            angle=begin,
            turning=np.zeros_like(begin),
            begin=begin,
            gyro=np.full(batch, self._start.heading_rad),
            lifted=none,
            upside_down=none,
            attached=np.broadcast_to(self._arm_begin, (*batch, len(self._arm))).copy(),
        )

    def adopt(self, state: object) -> StandInState:
        """Give a state at rest where another stand-in of this robot is."""
        after = carried_over(state, self.start())
        return after._replace(gyro=after.pose[..., 2].copy())

    def placed(self, state: StandInState, pose: Floats, said_rad: Floats | None = None) -> StandInState:
        """Give the state at a pose, B + (3,). ``said_rad``, B, is what the gyro says there, the true heading if left out."""
        whole = np.broadcast_to(pose, state.pose.shape).astype(float)
        gyro = whole[..., 2] if said_rad is None else np.broadcast_to(said_rad, state.gyro.shape)
        return state._replace(pose=whole, gyro=gyro.astype(float))

    def pushed(self, state: StandInState, impulse: Floats) -> StandInState:
        """Give the state after a knock: a perfect robot, which has no mass, feels none."""
        return state

    def fits(self, state: object) -> bool:
        """Tell whether a state is one of this robot's."""
        if not isinstance(state, StandInState):
            return False
        mine = self.start(state.blocked.shape)
        return all(a.shape == b.shape for a, b in zip(mine, state, strict=True))

    def step(self, state: StandInState, told: Floats, dt_s: float) -> StandInState:
        """Let one tick pass with the motors told the same all through it.

        Parameters
        ----------
        state : StandInState
        told : B + (V,) float64
            What the motor drivers are told, as `line.outputs.encode` gives it; behind it, where the rig has it, whether
            the robot coasts.
        dt_s : float

        Returns
        -------
        StandInState

        Notes
        -----
        A drive below the motor's smallest does not turn the wheel. Each wheel follows its target u as
        s' = (u - s)/τ, solved exactly: s(dt) = u + (s0 - u)·e, with e = exp(-dt/τ), and it rolls
        u·dt + (s0 - u)·τ·(1 - e). τ is the rig's lag; a robot that coasts has 8 times that (at least 0.8 s), a steering
        motor, which has no robot to push, a quarter. The body moves by the twist of those distances, along the angle of
        the middle of the tick, on SE(2); what it runs into stops it as far along that arc as it fits, and its wheels with
        it. (Own model.)
        """
        count = len(self._outputs.source)
        drive = decode(self._outputs, told[..., :count])
        coasts = told[..., count] if told.shape[-1] > count else None
        rolled, speed = self._roll(state, drive, coasts, dt_s)
        attached = self._carried(state.attached, drive, dt_s)
        angle, turning, ground = state.angle, state.turning, rolled
        if len(self._at):
            angle, turning = self._turn(state, drive, coasts, dt_s)
            pointing = np.empty(rolled.shape)
            pointing[...] = self._fixed
            pointing[..., self._at] = (state.angle + angle) / 2
            ground = vectors(rolled, pointing)
        twist = self.twist_of(ground)
        if some(state.upside_down):
            turned = np.einsum("kw,...w->...k", self._maps_upside_down.forward, ground)
            twist = np.where(state.upside_down[..., None] != 0, turned, twist)
        if some(state.lifted):
            twist = np.where(state.lifted[..., None] != 0, 0.0, twist)
        pose, blocked = move(state.pose, twist), state.blocked
        touched = self._obstacles.touched(pose)
        if some(touched):
            # one that overlaps already (put there by hand) may drive out
            stopped = touched & ~self._obstacles.touched(state.pose)
            share = np.where(stopped, self._fitting(state.pose, twist), 1.0)[..., None]
            blocked = stopped.astype(float)
            pose = np.where(stopped[..., None], move(state.pose, twist * share), pose)
            kept = rolled * share if len(self._at) else self._rolling(state, twist) * share
            rolled = np.where(stopped[..., None], kept, rolled)
            speed = np.where(stopped[..., None], rolled / dt_s, speed)
            twist = twist * share
        elif some(blocked):
            blocked = np.zeros_like(blocked)
        heading = (
            np.where(state.upside_down != 0, -twist[..., 2], twist[..., 2])
            if some(state.upside_down)
            else twist[..., 2]
        )
        return StandInState(
            travel=state.travel + rolled,
            speed=speed,
            pose=pose,
            blocked=blocked,
            angle=angle,
            turning=turning,
            begin=state.begin,
            gyro=state.gyro + heading,
            lifted=state.lifted,
            upside_down=state.upside_down,
            attached=attached,
        )

    def rolls_freely(self, state: StandInState, told: Floats) -> bool:
        """Tell whether one robot does nothing under commands, (N, V), but roll on its wheels, none of which is steered."""
        coasts = told.shape[-1] > len(self._outputs.source)
        return not (len(self._at) or len(self._arm) or coasts or some(state.lifted) or some(state.upside_down))

    def targets(self, state: StandInState, told: Floats, dt_s: float) -> tuple[Floats, float, float]:
        """Give the speeds, (N, W), that commands, (N, V), ask of the wheels, and what is left of a gap after a tick and for
        how long it counts; for one that rolls freely.
        """
        decay, memory = self._lag(None, dt_s, 1.0)
        return self._drives.wanted(decode(self._outputs, told), state.lifted), float(decay), float(memory)

    def twist_of(self, rolled: Floats) -> Floats:
        """Give the displacement, B + (3,), of ways that wheels roll, B + (W·D,)."""
        return np.einsum("kw,...w->...k", self._maps.forward, rolled)

    def touches(self, pose: Floats) -> NDArray[np.bool_]:
        """Tell whether the body at poses, B + (3,), touches anything, B bool."""
        return self._obstacles.touched(pose)

    def _lag(self, coasts: Floats | None, dt_s: float, share: float) -> tuple[Floats | float, Floats | float]:
        """What is left of a gap after a tick, and how long the gap counts for the way: e and τ·(1 - e)."""
        lag = self.rig.lag_s

        def of(tau: float) -> tuple[float, float]:
            decay = exp(-dt_s / tau) if tau > 0 else 0.0
            return decay, tau * (1 - decay)

        plain = of(lag * share)
        if coasts is None or not some(coasts >= 0.5):
            return plain
        slow = of(COAST_LAG * (lag or 0.1) * share)
        return tuple(np.where(coasts[..., None] >= 0.5, s, p) for s, p in zip(slow, plain, strict=True))  # type: ignore[return-value]

    def _roll(self, state: StandInState, drive: Floats, coasts: Floats | None, dt_s: float) -> tuple[Floats, Floats]:
        """How far the wheels roll in a tick, and their speeds after it."""
        decay, memory = self._lag(coasts, dt_s, 1.0)
        target = self._drives.wanted(drive, state.lifted)
        gap = state.speed - target
        return target * dt_s + gap * memory, target + gap * decay

    def _turn(self, state: StandInState, drive: Floats, coasts: Floats | None, dt_s: float) -> tuple[Floats, Floats]:
        """Where steered wheels point after a tick, and how fast they turn then."""
        decay, memory = self._lag(coasts, dt_s, STEER_LAG)
        target = self._steers.wanted(drive, state.lifted)
        gap = state.turning - target
        return state.angle + (target * dt_s + gap * memory), target + gap * decay

    def _rolling(self, state: StandInState, twist: Floats) -> Floats:
        """How far wheels that are not steered roll while the body moves."""
        on, upside_down = (np.einsum("wk,...k->...w", m.inverse, twist) for m in (self._maps, self._maps_upside_down))
        return np.where(state.upside_down[..., None] != 0, upside_down, on)

    def _fitting(self, pose: Floats, twist: Floats) -> Floats:
        """Find how much of a displacement fits, B."""
        low, high = np.zeros(pose.shape[:-1]), np.ones(pose.shape[:-1])
        for _ in range(HALVINGS):
            middle = (low + high) / 2
            hits = self._obstacles.touched(move(pose, twist * middle[..., None]))
            low, high = np.where(hits, low, middle), np.where(hits, middle, high)
        return low

    def sense(self, state: StandInState) -> Floats:
        """Give what the robots' sensors say, B + (S,) float64, as `line.inputs.sensed_columns` orders it."""
        found = [state.travel * self._rolls, state.speed * self._rolls]
        if len(self._at):
            found += [(state.angle - state.begin) * self._turns, self._absolute(state)]
        if self.rig.gyro is not None:
            found.append(state.gyro[..., None] * self._wiring.gyro)
        if self.rig.upside_down is not None:
            found.append((1.0 - 2.0 * state.upside_down[..., None]) * self._wiring.up)
        if len(self._arm):
            found.append(state.attached - self._arm_begin)
        if self._seeing.any:
            found.append(self._seeing.sense(state.pose))
        if self.rig.battery.sensed:
            found.append(np.full((*state.blocked.shape, 1), self.rig.battery.volts))
        return np.concatenate(found, axis=-1)

    def truth(self, state: StandInState) -> Floats:
        """Give what is true of the robots, B + (T,), as `pivrex.line.given.truth_columns` orders it. In the line of a rig with
        a real body the battery is as it should be, nothing slips, and nobody knows the loads.
        """
        found = np.concatenate((state.pose, state.blocked[..., None]), axis=-1)
        if not self.rig.has_real_body:
            return found
        count = len(self._fixed)
        rest = np.concatenate(([self.rig.battery.volts, 0.0], np.zeros(count), np.full(count, np.nan)))
        return np.concatenate((found, np.broadcast_to(rest, (*state.blocked.shape, len(rest)))), axis=-1)
