"""The observations of a probe, and the prediction of each possible wiring."""

from __future__ import annotations

from dataclasses import dataclass
from math import pi

import numpy as np
from numpy.typing import NDArray

from pivrex.diagnosis.hypotheses import Wire
from pivrex.line.input_stages import sensed_columns
from pivrex.line.layout import plain
from pivrex.rig.rig import Rig
from pivrex.sim.wiring import ports_of

__all__ = ["Bench", "Seen"]

Floats = NDArray[np.float64]

ROLLED_M = 0.004
TURNED_RAD = 0.05
HEADED_RAD = 0.004
"""A wheel, a steered wheel or the body has moved if it has moved this far: well above what rests twitch."""

CLEARLY = 2.0
"""The wheel that moved most must have moved this many times as far as the next."""


@dataclass(frozen=True)
class Seen:
    """The sensors' observation of a probe, each 0 for nothing and else +1 or -1.

    Attributes
    ----------
    motor : int
        The motor whose encoder moved, -1 if none did.
    count : int
        Whether its encoder counted up or down.
    heading : int
        Whether the gyro's heading rose or fell.
    """

    motor: int
    count: int
    heading: int


class Bench:
    """A rig's motors as a hypotheses sees them: which have encoders, what each would move.

    Attributes
    ----------
    names : tuple of str
        The motors, those that drive before those that steer.
    ports : tuple of str
        Their ports by the rig.
    drives : int
        How many of them drive.
    """

    def __init__(self, rig: Rig) -> None:
        self.rig = rig
        self.names = rig.motor_names
        self.ports = tuple(ports_of(rig))
        self.drives = len(rig.motors)
        self.wheels = [m.wheels for m in rig.motors.values()] + [(w,) for w in rig.steered]
        steering = [rig.steering.wheels[w] for w in rig.steered] if rig.steering is not None else []
        self.has_encoder = [m.counts_per_turn > 0 for m in rig.motors.values()] + [True] * len(steering)
        self.has_gyro = rig.gyro is not None
        reversed_ = [m.encoder_reversed for m in rig.motors.values()]
        reversed_ += [
            m.encoder_reversed if m.counts_per_turn else bool(m.sensor and m.sensor.reversed) for m in steering
        ]
        self._said = np.array([-1.0 if r else 1.0 for r in reversed_])
        columns = [(c.name, i) for i, c in enumerate(sensed_columns(rig))]
        at = dict(columns)
        self._travel = [at[f"{plain(w[0])}_travel"] for w in self.wheels[: self.drives]]
        self._turned = [at[f"{plain(w)}_turned"] for w in rig.steered]
        self._absolute = [at[f"{plain(w)}_absolute"] for w in rig.steered]
        self._gyro, self._up = at.get("gyro", -1), at.get("up", -1)
        self._by_sensor = [m.counts_per_turn == 0 for m in steering]
        self._full = [m.sensor.full if m.sensor is not None else 1.0 for m in steering]
        self.turning = self._turning(0.0)

    def _turning(self, steer_rad: float) -> list[int]:
        """Which way driving each motor's wheel forward turns the body, steered wheels at an angle: 1, -1 or 0."""
        geometry = self.rig.chassis.geometry
        names = [w.name for w in self.rig.chassis.wheels]
        found = []
        for wheels in self.wheels[: self.drives]:
            turn = 0.0
            for wheel in wheels:
                w = names.index(wheel)
                columns = geometry.forward[2, geometry.of_wheel == w]
                way = np.array([np.cos(steer_rad), np.sin(steer_rad)]) if len(columns) == 2 else np.ones(1)
                turn += float((columns * way).sum())
            found.append(0 if abs(turn) < 1e-6 else 1 if turn > 0 else -1)
        return found

    def steers(self, motor: int) -> bool:
        """Return whether a motor steers."""
        return motor >= self.drives

    def steering_of(self, motor: int) -> int:
        """Return the steering motor of a driving motor's wheel; -1 if it is not steered."""
        wheel = self.wheels[motor][0]
        return self.drives + self.rig.steered.index(wheel) if wheel in self.rig.steered else -1

    def watch(self, motor: int) -> tuple[int, float]:
        """Return the sensed value that shows a motor's movement, and how far it must go."""
        if not self.steers(motor):
            return self._travel[motor], ROLLED_M
        return self._turned[motor - self.drives], TURNED_RAD

    def changes(self, before: Floats, after: Floats) -> Floats:
        """Return how far each motor's sensor moved, (K,), in m or rad, in the sensor's own sense."""
        found = [after[i] - before[i] for i in self._travel]
        for i, (turned, absolute) in enumerate(zip(self._turned, self._absolute, strict=True)):
            if self._by_sensor[i]:
                share = (after[absolute] - before[absolute]) / self._full[i]
                found.append(((share + 0.5) % 1.0 - 0.5) * 2 * pi)
            else:
                found.append(after[turned] - before[turned])
        # the rig's signs were put on already; what by the absolute sensor is read was not
        signs = self._said.copy()
        for i, by_sensor in enumerate(self._by_sensor):
            if by_sensor:
                signs[self.drives + i] = 1.0
        return np.array(found) * signs

    def absolute_change(self, wheel: int, before: Floats, after: Floats) -> float:
        """Return how far a steered wheel's absolute sensor moved, in rad, in its own sense."""
        at = self._absolute[wheel]
        return float((((after[at] - before[at]) / self._full[wheel] + 0.5) % 1.0 - 0.5) * 2 * pi)

    def absolute(self, wheel: int, sensed: Floats) -> float:
        """Return what a steered wheel's absolute sensor reads, as an angle in rad."""
        return float(sensed[self._absolute[wheel]] / self._full[wheel] * 2 * pi)

    def heading_change(self, before: Floats, after: Floats) -> float:
        """Return how far the gyro's heading went, in rad; 0 without one."""
        return float(after[self._gyro] - before[self._gyro]) if self._gyro >= 0 else 0.0

    def upright(self, sensed: Floats) -> int:
        """Return the sign that the side sensor reads while the robot stands on its wheels or a block; 0 without one."""
        return 0 if self._up < 0 else 1 if sensed[self._up] > 0 else -1

    def look(self, before: Floats, after: Floats, on_floor: bool) -> Seen | None:
        """Return what the sensors saw between two moments; None if they cannot tell which wheel moved."""
        sizes = self.changes(before, after)
        least = np.array([TURNED_RAD if self.steers(k) else ROLLED_M for k in range(len(self.names))])
        shares = np.where(self.has_encoder, np.abs(sizes) / least, 0.0)
        order = np.argsort(-shares)
        first = int(order[0])
        heading = 0
        if on_floor and self._gyro >= 0:
            turned = float(after[self._gyro] - before[self._gyro])
            heading = 0 if abs(turned) < HEADED_RAD else 1 if turned > 0 else -1
        if shares[first] < 1:
            return Seen(-1, 0, heading)
        if len(order) > 1 and shares[order[1]] > 1 and shares[first] < CLEARLY * shares[order[1]]:
            return None
        return Seen(first, 1 if sizes[first] > 0 else -1, heading)

    def shows(self, wire: Wire, on_floor: bool) -> Seen:
        """Return what the sensors would see of a positive probe if a port were wired so."""
        k = wire.motor
        moved = self.has_encoder[k]
        heading = 0
        if on_floor and self.has_gyro and not self.steers(k):
            heading = wire.sign * wire.gyro * self.turning[k]
        return Seen(k if moved else -1, wire.sign * wire.encoder if moved else 0, heading)

    def shows_across(self, wire: Wire, driven: Wire, angle_read: float) -> int:
        """Return what the gyro would see of a driven wheel whose steering encoder reads an angle, in rad.

        ``wire`` is the steering motor's, ``driven`` the driving motor's. What the encoder reads is the true angle times
        its sign.
        """
        turning = self._turning(wire.encoder * angle_read)
        return driven.sign * driven.gyro * turning[driven.motor]
