"""The stand-in robot: wheels that follow with a lag, exact motion, and a field that stops it."""

from __future__ import annotations

from dataclasses import dataclass, replace
from math import cos, exp, pi, sin
from operator import add, mul

import numpy as np
from numpy.typing import NDArray

from pivrex.line.kinematics import kinematics_of
from pivrex.line.outputs import Readers, decode, decode_by, motor_names, readers_of, settings_of, values_of
from pivrex.rig.field import Field, Start
from pivrex.rig.rig import Rig
from pivrex.rig.steering import steering_name
from pivrex.sim.bumps import Obstacles
from pivrex.sim.motion import move
from pivrex.sim.wiring import Wiring, ports_of, wiring_of

__all__ = ["StandIn", "StandInState"]

Floats = NDArray[np.float64]

SWITCHED_ON = (0.35, -0.2, 0.5, -0.4)
"""Where steered wheels with absolute sensors happen to point when the robot is switched on, in rad."""

SEEN_M_S, SEEN_RAD_S = 0.02, 0.1

COAST_LAG = 8.0
"""How much longer a wheel that coasts rolls on than one whose motor is told to rest."""

STEER_LAG = 0.25
"""How much quicker than a wheel under load a steering motor follows."""


@dataclass(frozen=True)
class StandInState:
    """Where the stand-in is and how its W wheels turn, S of them steered.

    Attributes
    ----------
    travel : tuple of float
        How far each wheel has rolled, in m.
    speed : tuple of float
        Wheel surface speeds in m/s.
    pose : tuple of float
        x and y in m, heading in rad.
    blocked : bool
        Whether the last tick ended at something.
    angle, turning : tuple of float
        Where each steered wheel points, in rad, and how fast it turns, in rad/s.
    gyro : float
        How far the body has turned about its own upward axis, in rad.
    lifted : bool
        Whether it stands on a block with its wheels up.
    over : bool
        Whether it lies on its back.
    attached : tuple of float
        Where each attachment with an encoder is, in rad.
    """

    travel: tuple[float, ...]
    speed: tuple[float, ...]
    pose: tuple[float, float, float]
    blocked: bool = False
    angle: tuple[float, ...] = ()
    turning: tuple[float, ...] = ()
    gyro: float = 0.0
    lifted: bool = False
    over: bool = False
    attached: tuple[float, ...] = ()


def sumprod(a: list[float], b: list[float]) -> float:
    """Add up the products of two lists of one length."""
    return sum(map(mul, a, b))


class StandIn:
    """A robot that is not there. Commands in, sensed values out.

    It is wired as the rig says, or as a `Wiring` says that the rig knows nothing of. It is one robot and a few
    numbers, so it computes with plain floats: eight times faster than small arrays.
    """

    def __init__(self, rig: Rig, field: Field | None = None, wiring: Wiring | None = None) -> None:
        self.rig = rig
        self._start = field.start if field is not None else Start(x=0, y=0)
        self._outputs = settings_of(rig)
        said = wiring_of(rig)
        self._wiring = wiring if wiring is not None else said
        names = [w.name for w in rig.chassis.wheels]
        # for each motor: the slot of the output that it really sits on, -1 if on none, and its sign there
        slots = {port: k for k, port in enumerate(ports_of(rig))}
        sits = {motor: (slots.get(port, -1), sign) for port, (motor, sign) in self._wiring.plugs.items()}
        motor_of = {wheel: name for name, motor in rig.motors.items() for wheel in motor.wheels}
        self._drives = []
        for wheel in names:
            slot, sign = sits.get(motor_of[wheel], (-1, 1.0))
            self._drives.append((slot, sign * rig.wheel_top_m_s(wheel), self._smallest(motor_of[wheel])))
        self._steers = []
        for wheel in rig.steered:
            assert rig.steering is not None
            slot, sign = sits.get(steering_name(wheel), (-1, 1.0))
            top = rig.steering.wheels[wheel].top_rad_s
            self._steers.append((slot, sign * top, self._smallest(steering_name(wheel))))
        self._at = [names.index(w) for w in rig.steered]
        # what the sensors say in the rig's signs: a sensor that counts the other way, of which the rig knows, is right
        sense = {m: self._wiring.encoders.get(m, 1.0) * said.encoders[m] for m in motor_names(rig)}
        self._rolls = [sense[motor_of[w]] for w in names]
        self._turns = [sense[steering_name(w)] for w in rig.steered]
        maps = kinematics_of(rig.chassis)
        self._forward = maps.forward.tolist()
        self._inverse = maps.inverse.tolist()
        over = kinematics_of(rig.chassis, over=True)
        self._forward_over, self._inverse_over = over.forward.tolist(), over.inverse.tolist()
        self._fixed = [w.drive_rad for w in rig.chassis.wheels]
        self._obstacles = Obstacles(field, rig.chassis.length_m, rig.chassis.width_m)
        known = all(rig.steering.wheels[w].sensor is not None for w in rig.steered) if rig.steering else False
        self._attach()
        self._begin = tuple(SWITCHED_ON[i % 4] if known else 0.0 for i in range(len(self._steers)))

    def _attach(self) -> None:
        """Where the values of attachments with an encoder stand, how they are read, and how far each may go."""
        at = len(self._outputs.values)
        self._arms: list[tuple[slice, Readers, float, float, float]] = []
        for a in self.rig.attachments.values():
            count = len(values_of(a.output, 1.0)) if a.kind in ("motor", "position") else 1
            if a.kind == "position":
                readers = readers_of([(0, r, f, b, d) for _, _, r, f, b, _, d in values_of(a.output, 1.0)])
                top = a.top_speed_rad_s * (-1.0 if a.reversed else 1.0)
                self._arms.append((slice(at, at + count), readers, top, a.minimum_rad, a.maximum_rad))
            at += count
        self._coast = at
        """Where the value stands that lets it coast, if there is one."""

    def _moved_arms(self, state: StandInState, told: list[float], dt_s: float) -> tuple[float, ...]:
        """Where attachments are after a tick: they turn at once, and stop at their ends."""
        found = []
        for (place, readers, top, low, high), at in zip(self._arms, state.attached, strict=True):
            drive = decode_by(readers, 1, told[place])[0]
            found.append(min(max(at + drive * top * dt_s, low), high))
        return tuple(found)

    def _smallest(self, motor: str) -> tuple[float, float]:
        free, loaded = self._wiring.smallest.get(motor, (0.0, 0.0))
        return free - 1e-9, loaded - 1e-9

    def start(self) -> StandInState:
        """Give the state at the field's start, wheels at rest."""
        still = (0.0,) * len(self._drives)
        return StandInState(
            still,
            still,
            (self._start.x_m, self._start.y_m, self._start.heading_rad),
            angle=self._begin,
            turning=(0.0,) * len(self._steers),
            gyro=self._start.heading_rad,
            attached=(0.0,) * len(self._arms),
        )

    def fits(self, state: StandInState) -> bool:
        """Tell whether a state is one of this robot's."""
        alike = len(state.speed) == len(self._drives) and len(state.angle) == len(self._steers)
        return alike and len(state.attached) == len(self._arms)

    def step(self, state: StandInState, told: list[float], dt_s: float) -> StandInState:
        """Let one tick pass with the motors told the same all through it.

        Parameters
        ----------
        state : StandInState
        told : list of V floats
            What the motor drivers are told, as `line.outputs.encode` gives it.
        dt_s : float

        Returns
        -------
        StandInState

        Notes
        -----
        A drive below the motor's smallest does not turn the wheel. Each wheel follows its target u as
        s' = (u - s)/τ, solved exactly: s(dt) = u + (s0 - u)·e, with e = exp(-dt/τ), and it rolls
        u·dt + (s0 - u)·τ·(1 - e). Steering motors do the same with angles. The body moves by the twist of those
        distances, along the angle of the middle of the tick, on SE(2); what it runs into stops it as far along that arc
        as it fits, and its wheels with it.
        """
        drive = decode(self._outputs, told)
        lag = self.rig.lag_s
        if self._coast < len(told) and told[self._coast] >= 0.5:
            lag = COAST_LAG * (lag or 0.1)
        # commands to the motors alone, as a shakedown sends them, leave attachments as they are
        attached = self._moved_arms(state, told, dt_s) if self._arms and len(told) >= self._coast else state.attached
        decay = exp(-dt_s / lag) if lag > 0 else 0.0
        memory = lag * (1 - decay)
        load = 0 if state.lifted else 1
        rolled, speed = [], []
        for (slot, top, least), before in zip(self._drives, state.speed):  # noqa: B905 - in the loop, and equal by construction
            d = drive[slot] if slot >= 0 else 0.0
            target = 0.0 if abs(d) < least[load] else d * top
            gap = before - target
            rolled.append(target * dt_s + gap * memory)
            speed.append(target + gap * decay)
        angle, turning, vectors = state.angle, state.turning, rolled
        if self._steers:
            angle, turning = self._turn(state, drive, lag * STEER_LAG, dt_s, load)
            vectors = self._vectors(rolled, state.angle, angle)
        if state.lifted:
            return replace(
                state,
                travel=tuple(map(add, state.travel, rolled)),
                speed=tuple(speed),
                angle=angle,
                turning=turning,
                attached=attached,
            )
        twist = [sumprod(row, vectors) for row in (self._forward_over if state.over else self._forward)]
        pose = move(state.pose, *twist)
        blocked = self._obstacles.touched(pose) and not self._obstacles.touched(state.pose)
        # one that overlaps already (put there by hand) may drive out
        share = 1.0
        if blocked:
            share = self._fits(state.pose, twist)
            pose = move(state.pose, *(part * share for part in twist))
            if self._steers:
                rolled = [r * share for r in rolled]
            else:
                rolled = [sumprod(row, twist) * share for row in (self._inverse_over if state.over else self._inverse)]
            speed = [r / dt_s for r in rolled]
        travel = tuple(map(add, state.travel, rolled))
        turned = (-twist[2] if state.over else twist[2]) * share
        return StandInState(
            travel, tuple(speed), pose, blocked, angle, turning, state.gyro + turned, state.lifted, state.over, attached
        )

    def _turn(
        self, state: StandInState, drive: list[float], lag: float, dt_s: float, load: int
    ) -> tuple[tuple[float, ...], tuple[float, ...]]:
        """Turn the steered wheels for a tick: their angles and rates after it."""
        decay = exp(-dt_s / lag) if lag > 0 else 0.0
        memory = lag * (1 - decay)
        angles, rates = [], []
        for (slot, top, least), angle, before in zip(self._steers, state.angle, state.turning):  # noqa: B905
            d = drive[slot] if slot >= 0 else 0.0
            target = 0.0 if abs(d) < least[load] else d * top
            gap = before - target
            angles.append(angle + target * dt_s + gap * memory)
            rates.append(target + gap * decay)
        return tuple(angles), tuple(rates)

    def _vectors(self, rolled: list[float], before: tuple[float, ...], after: tuple[float, ...]) -> list[float]:
        """The distances rolled as vectors on the ground, forward and left of each wheel in turn."""
        angles = list(self._fixed)
        for i, w in enumerate(self._at):
            angles[w] = (before[i] + after[i]) / 2
        return [part for r, a in zip(rolled, angles) for part in (r * cos(a), r * sin(a))]  # noqa: B905

    def _fits(self, pose: tuple[float, float, float], twist: list[float]) -> float:
        """Find how much of a displacement fits, to 1/256: under a tenth of a millimetre a tick at 1 m/s."""
        low, high = 0.0, 1.0
        for _halving in range(8):
            middle = (low + high) / 2
            if self._obstacles.touched(move(pose, *(part * middle for part in twist))):
                high = middle
            else:
                low = middle
        return low

    def point_ahead(self, state: StandInState) -> StandInState:
        """Turn all steered wheels straight ahead by hand."""
        return replace(state, angle=(0.0,) * len(self._steers), turning=(0.0,) * len(self._steers))

    def seen(self, state: StandInState) -> str:
        """Say what moves to the eye, whatever the sensors say; empty if nothing does."""
        words = [
            f"{w.name} rolls {'forward' if v > 0 else 'backward'}"
            for w, v in zip(self.rig.chassis.wheels, state.speed, strict=True)
            if abs(v) > SEEN_M_S
        ]
        words += [
            f"{w} turns {'left' if v > 0 else 'right'}"
            for w, v in zip(self.rig.steered, state.turning, strict=True)
            if abs(v) > SEEN_RAD_S
        ]
        return ", ".join(words)

    def sensed(self, state: StandInState) -> Floats:
        """Give what the robot's sensors say, (S,) float64, as `line.line.sensed_columns` orders it."""
        found = [*map(mul, state.travel, self._rolls), *map(mul, state.speed, self._rolls)]
        if self._steers:
            found += [(a - b) * s for a, b, s in zip(state.angle, self._begin, self._turns)]  # noqa: B905
            found += self._absolute(state)
        found += [*state.pose, float(state.blocked)]
        if self.rig.gyro is not None:
            found.append(state.gyro * self._wiring.gyro)
        if self.rig.upside_down is not None:
            found.append((-1.0 if state.over else 1.0) * self._wiring.up)
        found += state.attached
        return np.array(found, float)

    def _absolute(self, state: StandInState) -> list[float]:
        """What the absolute sensors read: counts, or the share of the supply."""
        found = []
        for wheel, angle in zip(self.rig.steered, state.angle, strict=True):
            assert self.rig.steering is not None
            sensor = self.rig.steering.wheels[wheel].sensor
            if sensor is None:
                found.append(0.0)
                continue
            sense, offset = self._wiring.senses.get(wheel, 1.0), self._wiring.offsets.get(wheel, 0.0)
            share = ((sense * angle + offset) / (2 * pi)) % 1.0
            found.append(round(share * sensor.full) % sensor.full if sensor.full > 1 else share)
        return found
