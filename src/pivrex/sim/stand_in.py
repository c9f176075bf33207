"""The stand-in robot: wheels that follow with a lag, exact motion, and a field that stops it."""

from __future__ import annotations

from dataclasses import dataclass
from math import exp
from operator import add, mul

import numpy as np
from numpy.typing import NDArray

from pivrex.line.kinematics import kinematics_of
from pivrex.line.outputs import decode, settings_of
from pivrex.rig.field import Field, Start
from pivrex.rig.rig import Rig
from pivrex.sim.bumps import Obstacles
from pivrex.sim.motion import move

__all__ = ["StandIn", "StandInState"]

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class StandInState:
    """Where the stand-in is and how its W wheels turn.

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
    """

    travel: tuple[float, ...]
    speed: tuple[float, ...]
    pose: tuple[float, float, float]
    blocked: bool = False


def sumprod(a: list[float], b: list[float]) -> float:
    """Add up the products of two lists of one length."""
    return sum(map(mul, a, b))


class StandIn:
    """A robot that is not there, wired as the rig says. Commands in, sensed values out.

    It is one robot and a few numbers, so it computes with plain floats: eight times faster than small arrays.
    """

    def __init__(self, rig: Rig, field: Field | None = None) -> None:
        self.rig = rig
        self._start = field.start if field is not None else Start(x=0, y=0)
        self._outputs = settings_of(rig)
        self._smallest = [s - 1e-9 for s in self._outputs.smallest.tolist()]
        kinematics = kinematics_of(rig.chassis)
        self._forward = kinematics.forward.tolist()
        self._inverse = kinematics.inverse.tolist()
        names = [w.name for w in rig.chassis.wheels]
        top = [rig.wheel_top_m_s(w) for w in names]
        motors = list(rig.motors.values())
        # for each wheel: the motor that turns it, and the speed that a drive of 1 gives it
        self._drives = []
        for w, name in enumerate(names):
            m = next(i for i, motor in enumerate(motors) if name in motor.wheels)
            self._drives.append((m, -top[w] if motors[m].reversed else top[w]))
        self._obstacles = Obstacles(field, rig.chassis.length_m, rig.chassis.width_m)

    def start(self) -> StandInState:
        """Give the state at the field's start, wheels at rest."""
        still = (0.0,) * len(self._drives)
        return StandInState(still, still, (self._start.x_m, self._start.y_m, self._start.heading_rad))

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
        u·dt + (s0 - u)·τ·(1 - e). The body moves by the twist of those distances, on SE(2); what it runs into
        stops it as far along that arc as it fits, and its wheels with it.
        """
        drive = [
            0.0 if abs(d) < smallest else d
            for d, smallest in zip(decode(self._outputs, told), self._smallest)  # noqa: B905
        ]
        lag = self.rig.lag_s
        decay = exp(-dt_s / lag) if lag > 0 else 0.0
        memory = lag * (1 - decay)
        rolled, speed = [], []
        for (m, top), before in zip(self._drives, state.speed):  # noqa: B905 - in the loop, and equal by construction
            target = drive[m] * top
            gap = before - target
            rolled.append(target * dt_s + gap * memory)
            speed.append(target + gap * decay)
        twist = [sumprod(row, rolled) for row in self._forward]
        pose = move(state.pose, *twist)
        blocked = self._obstacles.touched(pose) and not self._obstacles.touched(state.pose)
        # one that overlaps already (put there by hand) may drive out
        if blocked:
            share = self._fits(state.pose, twist)
            pose = move(state.pose, *(part * share for part in twist))
            rolled = [sumprod(row, twist) * share for row in self._inverse]
            speed = [r / dt_s for r in rolled]
        travel = tuple(map(add, state.travel, rolled))
        return StandInState(travel, tuple(speed), pose, blocked)

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

    def sensed(self, state: StandInState) -> Floats:
        """Give what the robot's sensors say, (S,) float64, as `line.line.sensed_columns` orders it."""
        return np.array((*state.travel, *state.speed, *state.pose, state.blocked), float)
