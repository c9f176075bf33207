"""The real body: a step of motors, battery, tyres, load and walls, and what its sensors make of it."""

from __future__ import annotations

from math import ceil

import numpy as np
from numpy.typing import NDArray

from pivrex.line.outputs import decode
from pivrex.line.stage import Floats, some
from pivrex.line.values import joined, ops_of, parts, single, whole
from pivrex.rig.field import Field
from pivrex.rig.rig import Rig
from pivrex.sim.body.feed import open_volts
from pivrex.sim.body.mechanics import Mechanics, Moving
from pivrex.sim.body.sensors import Gyro, counted, normals
from pivrex.sim.body.settings import BodySettings, Conditions, settings_of
from pivrex.sim.body.state import BodyState
from pivrex.sim.body.walls import Walls
from pivrex.sim.fitted import STEER_LAG, Fitted, carried_over
from pivrex.sim.wiring import Wiring

__all__ = ["LONGEST_STEP_S", "RealBody"]

LONGEST_STEP_S = 1 / 120
"""A tick is cut into equal steps no longer than this. Friction, tyres and walls are solved for together with the speeds, so
any step is stable; the error of a step of this length beside one of half of it is under 1 cm and 1 degree in ten seconds of
driving (a test holds it to that).
"""

SMOOTH_S = 0.03
"""Over so long the stand-in's encoders average their speeds."""


class RealBody(Fitted):
    """A robot that is not there, with a body. Commands in, sensed values out, for one or for a batch of shape B.

    Parameters
    ----------
    rig : Rig
    field : Field or None
        None is an open floor without end.
    wiring : Wiring, optional
    under : Conditions, optional
        How each robot of a batch differs from the rig.
    tick_s : float, optional
        How long its ticks are, for the gyro's delay; the rig's if left out.
    """

    def __init__(
        self,
        rig: Rig,
        field: Field | None = None,
        wiring: Wiring | None = None,
        under: Conditions | None = None,
        tick_s: float | None = None,
    ) -> None:
        super().__init__(rig, field, wiring)
        self.settings: BodySettings = settings_of(rig, dict(self._wiring.smallest), under or Conditions())
        self._motors = self._shafts(list(rig.motors), [1.0] * len(rig.motors))
        walls = Walls(field, rig.chassis.length_m, rig.chassis.width_m)
        self._mechanics = Mechanics(self.settings, walls, max(rig.lag_s, 1e-3) * STEER_LAG)
        self._gyro = Gyro(rig, self.settings.noise, tick_s or rig.dt_s)
        counts = [rig.motors[self._motor_of[w.name]].counts_per_wheel_turn for w in rig.chassis.wheels]
        around = 2 * np.pi * self.settings.radius
        self._per_count = np.array([a / c if c else 0.0 for a, c in zip(around, counts, strict=True)])
        """How far a wheel rolls for a count, in m; 0 for one whose encoder is not said to count."""
        self._per_metre = np.array([1 / c if c else 0.0 for c in self._per_count])

    def start(self, batch: tuple[int, ...] = (), seeds: NDArray[np.uint64] | None = None) -> BodyState:
        """Give the state at the field's start, at rest. ``seeds``, B uint64: whose chance each robot has."""
        s = self.settings
        pose, begin = self._begin(batch, seeds)
        none = np.zeros(batch)
        wheels, motors = np.zeros((*batch, len(s.radius))), np.zeros((*batch, len(s.motors)))
        charge = np.zeros(batch) + s.charge
        o = ops_of(batch)
        floor = np.zeros((*batch, len(s.sides[0])))
        return BodyState(
            travel=wheels,
            speed=wheels,
            pose=pose,
            blocked=none,
            angle=begin,
            turning=np.zeros_like(begin),
            begin=begin,
            lifted=none,
            upside_down=none,
            attached=np.broadcast_to(self._arm_begin, (*batch, len(self._arm))).copy(),
            velocity=np.zeros((*batch, 3)),
            spin=motors,
            fed=motors,
            torque=motors,
            felt=np.zeros((*batch, 2)),
            charge=charge,
            volts=np.asarray(open_volts(o, s.volts, charge)) + none,
            restart=none,
            counted=wheels,
            metered=wheels,
            gyro=self._gyro.start(batch, seeds, self._start.heading_rad),
            slip=floor,
            load=floor,
        )

    def placed(self, state: BodyState, pose: Floats, said_rad: Floats | None = None) -> BodyState:
        """Give the state at a pose, B + (3,). ``said_rad``, B, is what the gyro says there, the true heading if left out."""
        whole = np.broadcast_to(pose, state.pose.shape).astype(float)
        said = whole[..., 2] if said_rad is None else np.broadcast_to(said_rad, whole.shape[:-1])
        heading = np.broadcast_to(said[..., None], state.gyro.heading.shape).astype(float)
        return state._replace(pose=whole, gyro=state.gyro._replace(heading=heading))

    def fits(self, state: object) -> bool:
        """Tell whether a state is one of this robot's."""
        if not isinstance(state, BodyState):
            return False
        mine = self.start(state.blocked.shape)
        alike = (getattr(mine, n).shape == getattr(state, n).shape for n in mine._fields if n != "gyro")
        return self._gyro.fits(state.gyro) and all(alike)

    # --- a tick ---

    def step(self, state: BodyState, told: Floats, dt_s: float) -> BodyState:
        """Let one tick pass with the motors told the same all through it.

        Parameters
        ----------
        state : BodyState
        told : B + (V,) float64
            What the motor drivers are told; behind it, where the rig has it, whether the robot coasts.
        dt_s : float

        Notes
        -----
        Semi-implicit Euler with the coefficients of friction as they are at the beginning of each step: all that resists
        is solved for together with the speeds (`pivrex.sim.body.ground.solve`), so it takes energy at every step length
        and never gives any. The body's velocity is then turned by what the body has turned, which keeps its length.
        """
        batch = state.blocked.shape
        o, s = ops_of(batch), self.settings
        count = len(self._outputs.source)
        drive = decode(self._outputs, told[..., :count])
        coasts = told[..., count] >= 0.5 if told.shape[-1] > count else np.zeros(batch, bool)
        m = Moving(state)
        given = self._motors.shares(drive)
        share, coasting = parts(given), coasts.item() if not batch else coasts
        back, lifted = single(state.upside_down), single(state.lifted)
        steer = parts(self._steers.wanted(drive, state.lifted)) if len(self._at) else []
        steps = max(1, ceil(dt_s / LONGEST_STEP_S - 1e-6))
        h = dt_s / steps
        for _ in range(steps):
            self._mechanics.step(o, m, share, coasting, steer, back, lifted, h)
        pose, spin = joined(m.pose, batch), joined(m.spin, batch)
        turned = pose[..., 2] - state.pose[..., 2]
        if some(state.upside_down):
            turned = np.where(state.upside_down != 0, -turned, turned)
        rolled = joined(m.rolled, batch)[..., s.wheel_motor] * s.radius
        travel = state.travel + rolled
        smooth = min(1.0, dt_s / SMOOTH_S)
        now = counted(travel, self._per_count, self._per_metre)
        seen = (now - state.counted) / dt_s
        felt = joined(m.felt, batch)
        return BodyState(
            travel=travel,
            speed=spin[..., s.wheel_motor] * s.radius,
            pose=pose,
            blocked=whole(m.blocked, batch),
            angle=joined(m.angle, batch),
            turning=joined(m.turning, batch),
            begin=state.begin,
            lifted=state.lifted,
            upside_down=state.upside_down,
            attached=self._carried(state.attached, drive, dt_s),
            velocity=joined(m.v, batch),
            spin=spin,
            fed=given,
            torque=joined(m.torque, batch),
            felt=felt,
            charge=whole(m.charge, batch),
            volts=whole(m.volts, batch),
            restart=whole(m.restart, batch),
            counted=now,
            metered=state.metered + (seen - state.metered) * smooth,
            gyro=self._gyro.step(state.gyro, turned, felt, spin, dt_s),
            slip=joined(m.slip, batch),
            load=joined(m.load, batch),
        )

    # --- what it says ---

    def _dragged(self, state: BodyState) -> NDArray[np.bool_]:
        """One whose motor is given nothing turns only because the robot moves."""
        return (state.fed == 0)[..., self.settings.wheel_motor]

    def pushed(self, state: BodyState, impulse: Floats) -> BodyState:
        """Give the state after a knock.

        Parameters
        ----------
        impulse : B + (3,) float64
            Forward and left in N·s, turning in N·m·s, about the mass centre, in the body's directions.
        """
        s = self.settings
        weight = np.stack(np.broadcast_arrays(s.mass, s.mass, s.inertia), axis=-1)
        return state._replace(velocity=state.velocity + impulse / weight)

    def sense(self, state: BodyState) -> Floats:
        """Give what the robots' sensors say, B + (S,), as `pivrex.line.given.sensed_columns` orders it."""
        found = [state.counted * self._rolls, state.metered * self._rolls]
        if len(self._at):
            found += [(state.angle - state.begin) * self._turns, self._absolute(state)]
        if self.rig.gyro is not None:
            found.append(self._gyro.says(state.gyro)[..., None] * self._wiring.gyro)
        if self.rig.upside_down is not None:
            found.append((1.0 - 2.0 * state.upside_down[..., None]) * self._wiring.up)
        if len(self._arm):
            found.append(state.attached - self._arm_begin)
        if self._seeing.any:
            found.append(self._seeing.sense(state.pose, normals(state.gyro, 2 * len(self.rig.sensors))))
        if self.rig.battery.sensed:
            found.append(state.volts[..., None])
        return np.concatenate(found, axis=-1)

    def truth(self, state: BodyState) -> Floats:
        """Give what is true of the robots, B + (T,), as `pivrex.line.given.truth_columns` orders it."""
        wheels = len(self.settings.radius)
        one = [a[..., None] for a in (state.blocked, state.volts, state.restart)]
        return np.concatenate((state.pose, *one, state.slip[..., :wheels], state.load[..., :wheels]), axis=-1)

    def energy(self, state: BodyState) -> Floats:
        """Give what is in the motion of body and motors, B, in J."""
        s = self.settings
        v = state.velocity
        body = s.mass * (v[..., 0] ** 2 + v[..., 1] ** 2) + s.inertia * v[..., 2] ** 2
        turning = (np.array([m.inertia for m in s.motors]) * state.spin**2).sum(axis=-1)
        whole: Floats = (body + turning) / 2
        return whole

    def adopt(self, state: object) -> BodyState:
        """Give a state at rest where another stand-in of this robot is."""
        after = carried_over(state, self.start())
        return after._replace(gyro=self._gyro.start((), None, float(after.pose[2])))
