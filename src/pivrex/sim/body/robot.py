"""The realistic body: a step of motors, battery, tyres, load and walls, and the readings of its sensors."""

from __future__ import annotations

from math import ceil

import numpy as np
from numpy.typing import NDArray

from pivrex.kernels.engines import Call
from pivrex.kernels.maths import div, floor, whole
from pivrex.kernels.records import Form, Numbers, Record, part
from pivrex.kernels.subset import kernel
from pivrex.line.input_stages import SensedRow, TruthRow
from pivrex.line.seeing import Scenery, SensorSettings, sense_field
from pivrex.line.stage import Floats
from pivrex.rig.field import Field
from pivrex.rig.rig import Rig
from pivrex.sim.body.feed import open_volts
from pivrex.sim.body.leaning import sensed_speed
from pivrex.sim.body.mechanics import body_step
from pivrex.sim.body.sensors import CHANCE, TABLE, Chance, count_wheels, gyro_reading, normal, sense_tilt, step_gyro
from pivrex.sim.body.settings import GRAVITY_M_S2, BodySettings, Conditions, settings_of
from pivrex.sim.body.state import BodyScratch, BodyState
from pivrex.sim.body.walls import places_of
from pivrex.sim.chance import draw
from pivrex.sim.fitted import (
    Fitted,
    FittedSettings,
    Shafts,
    carried_over,
    carry,
    decode,
    is_released,
    sense_fitted,
    target_speed,
)  # fmt: skip
from pivrex.sim.wiring import Wiring

__all__ = ["LONGEST_STEP_S", "RealisticBody", "RealisticRobot", "body_tick", "in_hand", "sense_body", "truth_of_body"]

LONGEST_STEP_S = 1 / 120
"""A tick is cut into equal steps no longer than this. Friction, tyres and walls are solved for together with the speeds, so
any step is stable; the error of a step of this length, compared with one of half of it, is under 1 cm and 1 degree in ten seconds of
driving (a test holds it to that).
"""


BALANCING_STEP_S = 1 / 400
"""The same of a robot that balances, which falls quicker than it drives."""


class RealisticRobot(Record):
    """A robot with a realistic body on a field: its settings, its wiring, the field's objects, and its sensors of them."""

    is_settings = True

    own: BodySettings = part()
    fit: FittedSettings = part()
    motors: Shafts = part()
    steers: Shafts = part()
    scenery: Scenery = part()
    sensors: SensorSettings = part()


@kernel
def copy(values: Numbers, into: Numbers, many: int) -> None:
    """Copy numbers."""
    for k in range(many):
        into[k] = values[k]


@kernel
def begin_tick(before: BodyState, after: BodyState) -> None:
    """Begin with everything as it was."""
    copy(before.pose, after.pose, 3)
    copy(before.angle, after.angle, len(before.angle))
    copy(before.turning, after.turning, len(before.angle))
    copy(before.begin, after.begin, len(before.angle))
    copy(before.attached, after.attached, len(before.attached))
    copy(before.velocity, after.velocity, 3)
    copy(before.spin, after.spin, len(before.spin))
    copy(before.reaction, after.reaction, len(before.spin))
    copy(before.acceleration, after.acceleration, 2)
    after.charge, after.volts, after.restart = before.charge, before.volts, before.restart
    after.lifted, after.upside_down, after.blocked = before.lifted, before.upside_down, False
    after.lean, after.lean_rate, after.tips, after.held = before.lean, before.lean_rate, before.tips, before.held
    after.hand, after.heave, after.frame_load = before.hand, before.heave, before.frame_load
    copy(before.tilt_bias, after.tilt_bias, 3)


@kernel
def body_tick(
    r: RealisticRobot, chance: Chance, w: BodyScratch, before: BodyState, after: BodyState, commanded: Numbers, coasts: float,
    dt: float,
) -> None:  # fmt: skip
    """Let one tick pass with the motors commanded the same all through it."""
    s, fit, motors = r.own, r.fit, r.motors
    begin_tick(before, after)
    decode(fit, commanded, w.drives, len(w.drives))
    for k in range(len(motors.slot)):
        after.drive[k] = w.drives[motors.slot[k]] * motors.sign[k] if motors.slot[k] >= 0 else 0.0
        w.released[k] = is_released(fit, commanded, motors.slot[k]) if motors.slot[k] >= 0 else s.coasts[k]
        w.rolled[k] = 0.0
    for k in range(len(r.steers.slot)):
        w.steer[k] = target_speed(r.steers, k, w.drives, before.lifted)
    forward, left, up = sensed_speed(s, after)
    steps = -whole(floor(-(div(dt, s.longest_step) - 1e-6)))
    steps = max(steps, 1)
    for _ in range(steps):
        body_step(r.scenery, s, w, after, coasts >= 0.5, div(dt, 1.0 * steps))
    for k in range(len(s.radius)):
        after.travel[k] = before.travel[k] + w.rolled[s.wheel_motor[k]] * s.radius[k]
        after.speed[k] = after.spin[s.wheel_motor[k]] * s.radius[k]
    forward_now, left, up_now = sensed_speed(s, after)
    after.measured[0], after.measured[1] = (
        div(forward_now - forward, dt) - after.velocity[2] * left,
        div(up_now - up, dt),
    )
    count_wheels(s, before, after, dt)
    turned = after.pose[2] - before.pose[2]
    step_gyro(s, chance, before, after, -turned if before.upside_down else turned, dt)
    carry(fit, w.drives, dt, after.attached)


@kernel
def sense_body(r: RealisticRobot, chance: Chance, w: BodyScratch, state: BodyState, sensed: SensedRow) -> None:
    """Write what the sensors say."""
    sense_fitted(
        r.fit, state.counted, state.metered, state.angle, state.begin, state.upside_down, state.attached, sensed
    )
    for k in range(len(sensed.gyro)):
        sensed.gyro[k] = gyro_reading(r.own, state) * r.fit.gyro_sign
    if len(sensed.tilt) > 0:
        sense_tilt(r.own, chance, state, r.fit.tilt_sign, sensed.tilt)
    for k in range(len(w.normals)):
        w.normals[k] = normal(chance, state.at, k + 1)
    sense_field(r.scenery, r.sensors, state.pose, w.normals, sensed.readings)
    for k in range(len(sensed.battery)):
        sensed.battery[k] = state.volts


@kernel
def truth_of_body(state: BodyState, true: TruthRow) -> None:
    """Write what is true of the robot."""
    copy(state.pose, true.pose, 3)
    true.blocked[0] = 1.0 if state.blocked else 0.0
    for k in range(len(true.battery)):
        true.battery[k], true.restart[k] = state.volts, state.restart
    for k in range(len(true.lean)):
        true.lean[k] = state.lean
    copy(state.slip, true.slip, len(true.slip))
    copy(state.load, true.load, len(true.load))


_TICK = Call(body_tick, ("after",))
_TRUTH = Call(truth_of_body, ("true",))
_SENSE = Call(sense_body, ("sensed",))


TIPPED_RAD, TURNED_RAD = 0.35, 1.2
"""How far a hand tips a robot forward, and turns it to the left, to see what its sensors say."""


def in_hand(model: RealisticBody, state: BodyState, what: str) -> BodyState:
    """Return the state of a robot that balances in the hand of a person: see `pivrex.session.messages.MoveSimulated`."""
    match what:
        case "lift":
            return state._replace(lifted=1.0, held=1.0, hand=0.0)
        case "lower" | "set up":
            return state._replace(lifted=0.0, held=1.0, hand=0.0)
        case "lay down":
            lies = model.settings.lies[..., 0]
            return state._replace(lean=lies, hand=lies, held=0.0, lifted=0.0, lean_rate=0.0)
        case "tip":
            return state._replace(lifted=1.0, held=1.0, hand=TIPPED_RAD)
        case "turn left":
            pose = state.pose + np.array([0.0, 0.0, TURNED_RAD])
            return state._replace(lifted=1.0, held=1.0, hand=0.0, pose=pose, heading=state.heading + TURNED_RAD)
    return state


class RealisticBody(Fitted):
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
        settings = settings_of(rig, dict(self._wiring.smallest), under or Conditions(), tick_s)
        self.settings: BodySettings = settings._replace(
            longest_step=LONGEST_STEP_S if rig.balance is None else BALANCING_STEP_S
        )
        self._motors = self._shafts(list(rig.motors), [1.0] * len(rig.motors))
        places, late = places_of(self._seeing.scenery), settings.gyro_late
        sizes = {
            "wheels": len(rig.chassis.wheels), "steered": len(rig.steered), "arms": len(self.fitted.arm),
            "motors": len(rig.motors), "contacts": len(settings.turn if settings.turn.ndim == 1 else settings.turn[0]),
        }  # fmt: skip
        self.form = Form(BodyState, kept=1 + ceil(np.max(late)), **sizes)
        self.scratch = Form(BodyScratch, drives=self.drives, places=places, normals=2 * self._seeing.count, **sizes)
        own = {"own": self.settings, "fit": self.fitted, "motors": self._motors, "steers": self._steers,
               "scenery": self._seeing.scenery, "sensors": self._seeing.settings}  # fmt: skip
        self.robot: RealisticRobot = Form(RealisticRobot, **{n: r.form for n, r in own.items()}).of(
            self.settings.batch, **own
        )
        self._tick, self._sense = (call.after(self.robot, CHANCE) for call in (_TICK, _SENSE))

    def start(self, batch: tuple[int, ...] = (), seeds: NDArray[np.uint64] | None = None) -> BodyState:
        """Return the state at the field's start, at rest. ``seeds``, B uint64: whose chance each robot has."""
        s = self.settings
        pose, begin = self._begin(batch, seeds)
        chance = draw(seeds if seeds is not None else np.zeros(batch, np.uint64), 1, 3)
        made: BodyState = self.form.of(
            batch,
            pose=pose,
            angle=begin,
            begin=begin,
            attached=self.fitted.arm_begin,
            charge=s.charge,
            volts=np.vectorize(open_volts, otypes=[float])(s.volts, s.charge),
            heading=self._start.heading_rad,
            bias=s.gyro_bias * (2.0 * chance[..., 0] - 1.0),
            at=np.floor(chance[..., 1] * TABLE),
            stride=np.floor(chance[..., 2] * (TABLE // 2)) * 2 + 1,
            tips=s.balances,
            held=s.balances,
            tilt_bias=s.tilt_bias
            * (2.0 * draw(seeds if seeds is not None else np.zeros(batch, np.uint64), 2, 3) - 1.0),
        )
        return made

    def placed(self, state: BodyState, pose: Floats, said_rad: Floats | None = None) -> BodyState:
        """Return the state at a pose, B + (3,). ``said_rad``, B, is what the gyro says there, the true heading if left out."""
        said = np.asarray(pose)[..., 2] if said_rad is None else np.asarray(said_rad)
        up = {
            "lean": 0.0,
            "lean_rate": 0.0,
            "hand": 0.0,
            "tips": self.settings.balances,
            "held": self.settings.balances,
        }
        return state._replace(pose=pose, heading=said[..., None], **up)

    def fits(self, state: object) -> bool:
        """Return whether a state is one of this robot's."""
        return isinstance(state, BodyState) and state.form is self.form

    # --- a tick ---

    def step(self, state: BodyState, commands: Floats, dt_s: float) -> BodyState:
        """Let one tick pass with the motors commanded the same all through it.

        Parameters
        ----------
        state : BodyState
        commands : B + (V,) float64
            What the motor drivers are commanded; behind it, where the rig has it, whether the robot coasts.
        dt_s : float
        """
        after: BodyState = self.form.start(state.batch)
        values = len(self.fitted.source)
        coasts = commands[..., values] if commands.shape[-1] > values else 0.0
        self._tick(state.batch, self.scratch.scratch, state, after, commands, coasts, dt_s)
        return after

    # --- readings ---

    def _dragged(self, state: BodyState) -> NDArray[np.bool_]:
        """One whose motor is off turns only because the robot moves."""
        return (state.drive == 0)[..., self.settings.wheel_motor.astype(int)]

    def pushed(self, state: BodyState, impulse: Floats) -> BodyState:
        """Return the state after a push.

        Parameters
        ----------
        impulse : B + (3,) float64
            Forward and left in N·s, turning in N·m·s, about the mass centre, in the body's directions.
        """
        s = self.settings
        weight = np.stack(np.broadcast_arrays(s.mass, s.mass, s.inertia), axis=-1)
        return state._replace(velocity=state.velocity + impulse / weight)

    def sense(self, state: BodyState) -> Floats:
        """Return what the robots' sensors say, B + (S,), as `pivrex.line.input_stages.sensed_columns` orders it."""
        sensed: SensedRow = self._sensed.start(state.batch)
        self._sense(state.batch, self.scratch.scratch, state, sensed)
        return sensed.data

    def truth(self, state: BodyState) -> Floats:
        """Return what is true of the robots, B + (T,), as `pivrex.line.input_stages.truth_columns` orders it."""
        true: TruthRow = self._truth.start(state.batch)
        _TRUTH(state.batch, state, true)
        return true.data

    def energy(self, state: BodyState) -> Floats:
        """Return what is in the motion of body and motors and in the height of its weight, B, in J."""
        s = self.settings
        v = state.velocity
        body = s.mass * (v[..., 0] ** 2 + v[..., 1] ** 2) + s.inertia * v[..., 2] ** 2
        turning = (s.rotor_inertia * state.spin**2).sum(axis=-1)
        axle = np.where(state.tips == 2, 1, 0)
        x = s.centre[..., 0] - np.take(s.axle_x, axle, axis=-1)
        z = s.mass_z - np.take(s.axle_z, axle, axis=-1)
        ahead = x * np.cos(state.lean) + z * np.sin(state.lean)
        leaning = (s.pitch_inertia + s.mass * ahead**2) * state.lean_rate**2
        # its weight is lifted while it tips; 0 upright
        raised = s.mass * GRAVITY_M_S2 * (z * np.cos(state.lean) - x * np.sin(state.lean) - z)
        whole: Floats = (body + turning + leaning) / 2 + raised
        return whole

    def adopt(self, state: object) -> BodyState:
        """Return a state at rest where another simulated robot of this robot is."""
        after = carried_over(state, self.start())
        return after._replace(heading=after.pose[..., 2])
