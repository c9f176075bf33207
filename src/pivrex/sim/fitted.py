"""What every stand-in is fitted with, however it moves: motors on ports, encoders, absolute sensors, arms."""

from __future__ import annotations

from dataclasses import dataclass
from math import pi
from typing import Any, TypeVar

import numpy as np
from numpy.typing import NDArray

from pivrex.line.outputs import settings_of
from pivrex.line.seeing import Seeing
from pivrex.line.stage import Floats, some
from pivrex.rig.attachments import Encoded, reach_of
from pivrex.rig.field import Field, Start
from pivrex.rig.rig import Rig
from pivrex.rig.steering import steering_name
from pivrex.sim.chance import draw
from pivrex.sim.wiring import Wiring, ports_of, wiring_of

__all__ = ["STEER_LAG", "Fitted", "Shafts", "carried_over"]

Standing = TypeVar("Standing")

SWITCHED_ON = (0.35, -0.2, 0.5, -0.4)
"""Where steered wheels with absolute sensors happen to point when the robot is switched on, in rad."""

SEEN_M_S, SEEN_RAD_S = 0.02, 0.1

STEER_LAG = 0.25
"""How much quicker than a wheel under load a steering motor follows."""


CARRIED_OVER = ("pose", "travel", "begin", "angle", "lifted", "upside_down", "attached")


def carried_over(state: object, fresh: Standing) -> Standing:
    """Give `fresh`, a robot's state at rest, where another stand-in's `state` is: what both know, if its shape is the same."""
    same = {
        n: v for n in CARRIED_OVER if (v := getattr(state, n, None)) is not None and v.shape == getattr(fresh, n).shape
    }
    return fresh._replace(**same)  # type: ignore[attr-defined]


@dataclass(frozen=True)
class Shafts:
    """N motors: the output slot that each sits on, -1 for none, its speed at full drive with its sign, and the smallest
    drive that turns it with the wheels up and on the floor.
    """

    slot: NDArray[np.intp]
    sits: Floats
    top: Floats
    free: Floats
    loaded: Floats
    way: Floats

    def shares(self, drive: Floats) -> Floats:
        """Give what each motor gets of drives, B + (M,): B + (N,) in [-1, 1], positive to turn its wheel forward."""
        share: Floats = drive[..., self.slot] * self.way
        return share

    def wanted(self, drive: Floats, lifted: Floats) -> Floats:
        """Give the speeds, B + (N,), that drives, B + (M,), ask for: none where they are too small to turn anything."""
        each = drive[..., self.slot] * self.sits
        least = np.where(lifted[..., None] != 0, self.free, self.loaded) if some(lifted) else self.loaded
        return each * self.top * (np.abs(each) >= least)


class Fitted:
    """A robot that is not there, but for how it moves. It is wired as the rig says, or as a `Wiring` says that the rig knows
    nothing of. States are named tuples with ``pose``, ``speed``, ``angle``, ``turning``, ``begin``, ``attached`` and more.
    """

    def __init__(self, rig: Rig, field: Field | None = None, wiring: Wiring | None = None) -> None:
        self.rig = rig
        self._start = field.start if field is not None else Start(x=0, y=0)
        self._outputs = settings_of(rig)
        said = wiring_of(rig)
        self._wiring = wiring if wiring is not None else said
        names = [w.name for w in rig.chassis.wheels]
        self._motor_of = {wheel: name for name, motor in rig.motors.items() for wheel in motor.wheels}
        self._drives = self._shafts([self._motor_of[w] for w in names], [rig.wheel_top_m_s(w) for w in names])
        steering = rig.steering.wheels if rig.steering is not None else {}
        self._steers = self._shafts(
            [steering_name(w) for w in rig.steered], [steering[w].top_rad_s for w in rig.steered]
        )
        self._at = np.array([names.index(w) for w in rig.steered], np.intp)
        # what the sensors say in the rig's signs: a sensor that counts the other way, of which the rig knows, is right
        sense = {m: self._wiring.encoders.get(m, 1.0) * said.encoders[m] for m in rig.motor_names}
        self._rolls = np.array([sense[self._motor_of[w]] for w in names])
        self._turns = np.array([sense[steering_name(w)] for w in rig.steered])
        self._seeing = Seeing(rig, field)
        self._absolute_sensors(rig)
        self._arms(rig)

    def _shafts(self, motors: list[str], tops: list[float]) -> Shafts:
        slots = {port: k for k, port in enumerate(ports_of(self.rig))}
        sits = {motor: (slots.get(port, -1), sign) for port, (motor, sign) in self._wiring.plugs.items()}
        placed = [sits.get(m, (-1, 1.0)) for m in motors]
        # rounding must not keep a motor from turning at its smallest drive
        smallest = np.array([self._wiring.smallest.get(m, (0.0, 0.0)) for m in motors]).reshape(-1, 2) - 1e-9
        return Shafts(
            slot=np.array([slot for slot, _ in placed], np.intp),
            sits=np.array([float(slot >= 0) for slot, _ in placed]),
            top=np.array([sign * top for (_, sign), top in zip(placed, tops, strict=True)]),
            free=smallest[:, 0].copy(),
            loaded=smallest[:, 1].copy(),
            way=np.array([float(slot >= 0) * sign for slot, sign in placed]),
        )

    def _absolute_sensors(self, rig: Rig) -> None:
        sensors = [rig.steering.wheels[w].sensor if rig.steering is not None else None for w in rig.steered]
        self._full = np.array([s.full if s is not None else 0.0 for s in sensors])
        self._sense = np.array([self._wiring.senses.get(w, 1.0) for w in rig.steered])
        self._offset = np.array([self._wiring.offsets.get(w, 0.0) for w in rig.steered])
        self._known = bool(sensors) and all(s is not None for s in sensors)

    def _arms(self, rig: Rig) -> None:
        """Where the drives of attachments with an encoder stand, and how far its shaft may turn, in rad."""
        arms = [(i, a, reach_of(a)) for i, a in enumerate(rig.attachments.values()) if isinstance(a, Encoded)]
        motors = len(rig.motor_names)
        self._arm = np.array([motors + i for i, _, _ in arms], np.intp)
        self._arm_top = np.array([r.rate / r.per_rad * (-1.0 if a.reversed else 1.0) for _, a, r in arms])
        self._arm_begin, self._arm_low, self._arm_high = (
            np.array([getattr(r, what) / r.per_rad for _, _, r in arms]) for what in ("begins", "low", "high")
        )

    def _begin(self, batch: tuple[int, ...], seeds: NDArray[np.uint64] | None) -> tuple[Floats, Floats]:
        """Give the pose at the field's start, B + (3,), and where steered wheels point, B + (S,)."""
        begin = np.zeros((*batch, len(self._at)))
        if self._known:
            begin[...] = np.resize(SWITCHED_ON, begin.shape[-1])
            if seeds is not None:
                begin[...] = (draw(seeds, 0, begin.shape[-1]) * 2 - 1) * pi
        pose = np.empty((*batch, 3))
        pose[...] = self._start.x_m, self._start.y_m, self._start.heading_rad
        return pose, begin

    def _carried(self, attached: Floats, drive: Floats, dt_s: float) -> Floats:
        """Give where attachments with an encoder are after a tick: no farther than to their stops."""
        if not len(self._arm):
            return attached
        moved = attached + drive[..., self._arm] * self._arm_top * dt_s
        return np.minimum(np.maximum(moved, self._arm_low), self._arm_high)

    def point_ahead(self, state: Any) -> Any:
        """Turn all steered wheels straight ahead by hand."""
        return state._replace(angle=np.zeros_like(state.angle), turning=np.zeros_like(state.turning))

    def _dragged(self, state: Any) -> NDArray[np.bool_]:
        """Tell, (W,), which wheels of one robot are turned by the floor and not by their motors."""
        return np.zeros(state.speed.shape, bool)

    def seen(self, state: Any) -> str:
        """Say what moves of one robot to the eye, whatever the sensors say; empty if nothing does."""
        speeds = np.where(self._dragged(state), 0.0, state.speed)
        words = [
            f"{w.name} rolls {'forward' if v > 0 else 'backward'}"
            for w, v in zip(self.rig.chassis.wheels, speeds.tolist(), strict=True)
            if abs(v) > SEEN_M_S
        ]
        words += [
            f"{w} turns {'left' if v > 0 else 'right'}"
            for w, v in zip(self.rig.steered, state.turning.tolist(), strict=True)
            if abs(v) > SEEN_RAD_S
        ]
        return ", ".join(words)

    def _absolute(self, state: Any) -> Floats:
        """What the absolute sensors read: counts, or the share of the supply; 0 without one."""
        share = ((self._sense * state.angle + self._offset) / (2 * pi)) % 1.0
        full = np.where(self._full > 1, self._full, 1.0)
        return np.where(self._full > 1, np.rint(share * full) % full, share * self._full)
