"""The ideal simulated robot: wheels that follow with a lag, exact motion, and a field that stops it, for one robot or a batch."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from pivrex.kernels.engines import Call
from pivrex.kernels.maths import cos, div, exp, inf, nan, sin
from pivrex.kernels.records import Flag, Form, Number, Numbers, Record, Wholes, field, part
from pivrex.kernels.subset import kernel
from pivrex.line.input_stages import SensedRow, TruthRow
from pivrex.line.kinematics import kinematics_of
from pivrex.line.se2 import displaced
from pivrex.line.seeing import Scenery, SensorSettings, sense_field
from pivrex.line.stage import Floats
from pivrex.rig.field import Field
from pivrex.rig.rig import Rig
from pivrex.sim.bumps import touches
from pivrex.sim.fitted import (
    STEER_LAG,
    Fitted,
    FittedSettings,
    Shafts,
    carried_over,
    carry,
    decode,
    sense_fitted,
    target_speed,
)  # fmt: skip
from pivrex.sim.wiring import Wiring

__all__ = ["IdealBody", "IdealRobot", "IdealScratch", "IdealState", "ideal_step", "sense_ideal", "truth_of_ideal"]

COAST_LAG = 8.0
"""How much longer a wheel that coasts rolls on than one whose motor is commanded to rest."""

HALVINGS = 8
"""A displacement that does not fit is halved this often: under a tenth of a millimetre a tick at 1 m/s."""


class IdealSettings(Record):
    """A perfect robot with W wheels, S of them steered.

    Attributes
    ----------
    forward, inverse : (2, 3, D), (2, W, 3)
        The maps between wheels and twist, on its wheels and on its back. D is 2·W where any wheel is steered: vectors.
    angle : (W,)
        Where each wheel points that is not steered, in rad.
    steers : (W,)
        The place of each among the steered wheels, -1 for others.
    lag, coasting_lag : float
        In s.
    half_length, half_width : float
        Of its body, in m.
    """

    is_settings = True

    forward: Numbers = field(2, 3, "distances")
    inverse: Numbers = field(2, "wheels", 3)
    angle: Numbers = field("wheels", unit="rad")
    steers: Wholes = field("wheels")
    any_steered: Flag = field()
    lag: Number = field(unit="s")
    coasting_lag: Number = field(unit="s")
    half_length: Number = field(unit="m")
    half_width: Number = field(unit="m")


class IdealState(Record):
    """Where B simulated robots are and how their W wheels turn, S of them steered.

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
    lifted, upside_down : B float64
        Whether it stands on a block with its wheels up, and whether it lies on its back.
    attached : B + (P,) float64
        Where each attachment with an encoder is, in rad.
    """

    travel: Numbers = field("wheels", unit="m")
    speed: Numbers = field("wheels", unit="m/s")
    pose: Numbers = field(3, unit="m, m, rad")
    blocked: Flag = field()
    angle: Numbers = field("steered", unit="rad")
    turning: Numbers = field("steered", unit="rad/s")
    begin: Numbers = field("steered", unit="rad")
    gyro: Number = field(unit="rad")
    lifted: Flag = field()
    upside_down: Flag = field()
    attached: Numbers = field("arms", unit="rad")


class IdealRobot(Record):
    """An ideal robot on a field: its settings, its wiring, the field's objects, and its sensors of them."""

    is_settings = True

    own: IdealSettings = part()
    fit: FittedSettings = part()
    wheels: Shafts = part()
    steers: Shafts = part()
    scenery: Scenery = part()
    sensors: SensorSettings = part()


class IdealScratch(Record):
    """Where a tick is computed: drives, how far each wheel rolls, the same as vectors, and two numbers of chance for each sensor."""

    is_scratch = True

    drive: Numbers = field("drives")
    rolled: Numbers = field("wheels", unit="m")
    distances: Numbers = field("distances", unit="m")
    normals: Numbers = field("normals")


@kernel
def lagged(speed: float, target: float, lag: float, dt: float) -> tuple[float, float]:
    """Return a speed that follows a target with a lag after a tick, and how far it got meanwhile.

    Notes
    -----
    s' = (u - s)/τ, solved exactly: s(dt) = u + (s0 - u)·e with e = exp(-dt/τ), and the way is u·dt + (s0 - u)·τ·(1 - e).
    """
    decay = exp(-div(dt, lag)) if lag > 0.0 else 0.0
    gap = speed - target
    return target + gap * decay, target * dt + gap * (lag * (1.0 - decay))


@kernel
def twist_of_wheels(s: IdealSettings, side: int, row: int, distances: Numbers) -> float:
    """Return one part of the displacement that wheels' ways make together."""
    total = 0.0
    for k in range(len(s.forward[side][row])):
        total += s.forward[side][row][k] * distances[k]
    return total


@kernel
def share_that_fits(s: IdealSettings, f: Scenery, pose: Numbers, forward: float, left: float, turn: float) -> float:
    """Return how much of a displacement fits before the body touches something, found by halving."""
    low, high = 0.0, 1.0
    for _ in range(HALVINGS):
        middle = 0.5 * (low + high)
        dx, dy = displaced(pose[2], forward * middle, left * middle, turn * middle)
        if touches(f, s.half_length, s.half_width, pose[0] + dx, pose[1] + dy, pose[2] + turn * middle):
            high = middle
        else:
            low = middle
    return low


@kernel
def ideal_step(
    r: IdealRobot, w: IdealScratch, before: IdealState, after: IdealState, commanded: Numbers, coasts: float, dt: float,
) -> None:  # fmt: skip
    """Let one tick pass with the motors commanded the same all through it."""
    s, fit, f = r.own, r.fit, r.scenery
    decode(fit, commanded, w.drive, len(w.drive))
    lag = s.coasting_lag if coasts >= 0.5 else s.lag
    after.lifted, after.upside_down = before.lifted, before.upside_down
    for k in range(len(before.begin)):
        after.begin[k] = before.begin[k]
        after.turning[k], turned = lagged(
            before.turning[k], target_speed(r.steers, k, w.drive, before.lifted), lag * STEER_LAG, dt
        )
        after.angle[k] = before.angle[k] + turned
    for k in range(len(s.angle)):
        after.speed[k], w.rolled[k] = lagged(
            before.speed[k], target_speed(r.wheels, k, w.drive, before.lifted), lag, dt
        )
        if s.any_steered:
            i = s.steers[k]
            angle = s.angle[k] if i < 0 else 0.5 * (before.angle[i] + after.angle[i])
            w.distances[2 * k], w.distances[2 * k + 1] = w.rolled[k] * cos(angle), w.rolled[k] * sin(angle)
        else:
            w.distances[k] = w.rolled[k]
    side = 1 if before.upside_down else 0
    forward, left, turn = 0.0, 0.0, 0.0
    if not before.lifted:
        forward, left = twist_of_wheels(s, side, 0, w.distances), twist_of_wheels(s, side, 1, w.distances)
        turn = twist_of_wheels(s, side, 2, w.distances)
    dx, dy = displaced(before.pose[2], forward, left, turn)
    after.blocked = False
    if touches(
        f, s.half_length, s.half_width, before.pose[0] + dx, before.pose[1] + dy, before.pose[2] + turn
    ) and not touches(f, s.half_length, s.half_width, before.pose[0], before.pose[1], before.pose[2]):
        # one that overlaps already (put there by hand) may drive out
        after.blocked = True
        share = share_that_fits(s, f, before.pose, forward, left, turn)
        forward, left, turn = forward * share, left * share, turn * share
        dx, dy = displaced(before.pose[2], forward, left, turn)
        for k in range(len(s.angle)):
            row = s.inverse[side][k]
            w.rolled[k] = w.rolled[k] * share if s.any_steered else row[0] * forward + row[1] * left + row[2] * turn
            after.speed[k] = div(w.rolled[k], dt)
    for k in range(len(s.angle)):
        after.travel[k] = before.travel[k] + w.rolled[k]
    after.pose[0], after.pose[1] = before.pose[0] + dx, before.pose[1] + dy
    after.pose[2] = before.pose[2] + turn
    after.gyro = before.gyro + (-turn if before.upside_down else turn)
    for k in range(len(before.attached)):
        after.attached[k] = before.attached[k]
    carry(fit, w.drive, dt, after.attached)


@kernel
def sense_ideal(r: IdealRobot, w: IdealScratch, state: IdealState, sensed: SensedRow) -> None:
    """Write what the sensors of a perfect robot say: without noise, and every echo is heard."""
    sense_fitted(r.fit, state.travel, state.speed, state.angle, state.begin, state.upside_down, state.attached, sensed)
    for k in range(len(sensed.gyro)):
        sensed.gyro[k] = state.gyro * r.fit.gyro_sign
    for k in range(len(sensed.readings)):
        w.normals[2 * k], w.normals[2 * k + 1] = 0.0, -inf
    sense_field(r.scenery, r.sensors, state.pose, w.normals, sensed.readings)
    for k in range(len(sensed.battery)):
        sensed.battery[k] = r.fit.volts


@kernel
def truth_of_ideal(r: IdealRobot, state: IdealState, true: TruthRow) -> None:
    """Write what is true of a perfect robot."""
    for k in range(3):
        true.pose[k] = state.pose[k]
    true.blocked[0] = 1.0 if state.blocked else 0.0
    for k in range(len(true.battery)):
        true.battery[k], true.restart[k] = r.fit.volts, 0.0
    for k in range(len(true.load)):
        true.load[k], true.slip[k] = nan, 0.0


_STEP = Call(ideal_step, ("after",))
_TRUTH = Call(truth_of_ideal, ("true",))
_SENSE = Call(sense_ideal, ("sensed",))


class IdealBody(Fitted):
    """A perfect robot that is not there. Commands in, sensed values out."""

    def __init__(self, rig: Rig, field: Field | None = None, wiring: Wiring | None = None) -> None:
        super().__init__(rig, field, wiring)
        chassis, steered = rig.chassis, list(rig.steered)
        maps = [kinematics_of(chassis), kinematics_of(chassis, upside_down=True)]
        distances = maps[0].forward.shape[1]
        self.settings: IdealSettings = Form(IdealSettings, wheels=len(chassis.wheels), distances=distances).of(
            forward=[m.forward for m in maps],
            inverse=[m.inverse for m in maps],
            angle=[w.drive_rad for w in chassis.wheels],
            steers=[steered.index(w.name) if w.steered else -1 for w in chassis.wheels],
            any_steered=maps[0].hubs is not None,
            lag=rig.lag_s,
            coasting_lag=COAST_LAG * (rig.lag_s or 0.1),
            half_length=chassis.length_m / 2,
            half_width=chassis.width_m / 2,
        )
        self._wheels = self._shafts(
            [self._motor_of[w] for w in self._names], [rig.wheel_top_m_s(w) for w in self._names]
        )
        sizes = {"wheels": len(chassis.wheels), "steered": len(steered), "arms": len(self.fitted.arm)}
        self.form = Form(IdealState, **sizes)
        self.scratch = Form(
            IdealScratch,
            drives=self.drives,
            wheels=len(chassis.wheels),
            distances=distances,
            normals=2 * self._seeing.count,
        )
        own = {"own": self.settings, "fit": self.fitted, "wheels": self._wheels, "steers": self._steers,
               "scenery": self._seeing.scenery, "sensors": self._seeing.settings}  # fmt: skip
        self.robot: IdealRobot = Form(IdealRobot, **{n: r.form for n, r in own.items()}).of((), **own)
        self._step, self._tell, self._sense = (call.after(self.robot) for call in (_STEP, _TRUTH, _SENSE))

    def start(self, batch: tuple[int, ...] = (), seeds: NDArray[np.uint64] | None = None) -> IdealState:
        """Return the state at the field's start, wheels at rest.

        ``seeds``, B uint64: where steered wheels happen to point is sampled for each robot; the same everywhere without.
        """
        pose, begin = self._begin(batch, seeds)
        made: IdealState = self.form.of(
            batch, pose=pose, angle=begin, begin=begin, gyro=self._start.heading_rad, attached=self.fitted.arm_begin
        )
        return made

    def adopt(self, state: object) -> IdealState:
        """Return a state at rest where another simulated robot of this robot is."""
        after = carried_over(state, self.start())
        return after._replace(gyro=after.pose[..., 2])

    def placed(self, state: IdealState, pose: Floats, said_rad: Floats | None = None) -> IdealState:
        """Return the state at a pose, B + (3,). ``said_rad``, B, is what the gyro says there, the true heading if left out."""
        return state._replace(pose=pose, gyro=np.asarray(pose)[..., 2] if said_rad is None else said_rad)

    def pushed(self, state: IdealState, impulse: Floats) -> IdealState:
        """Return the state after a push: an ideal robot has no mass, so nothing changes."""
        return state

    def fits(self, state: object) -> bool:
        """Return whether a state is one of this robot's."""
        return isinstance(state, IdealState) and state.form is self.form

    def step(self, state: IdealState, commands: Floats, dt_s: float) -> IdealState:
        """Let one tick pass with the motors commanded the same all through it.

        Parameters
        ----------
        state : StandInState
        commands : B + (V,) float64
            What the motor drivers are commanded, as `line.outputs.encode` gives it; behind it, where the rig has it, whether
            the robot coasts.
        dt_s : float

        Returns
        -------
        StandInState

        Notes
        -----
        A drive below the motor's smallest does not turn the wheel. Each wheel follows its target with the rig's lag (see `lagged`);
        a robot that coasts has 8 times that (at least 0.8 s), a steering motor, which has no robot to push, a quarter. The body moves
        by the twist of the wheels' distances, along the angle of the middle of the tick, on SE(2); what it runs into stops it as far
        along that arc as it fits, and its wheels with it. (Own model.)
        """
        after: IdealState = self.form.start(state.batch)
        values = len(self.fitted.source)
        coasts = commands[..., values] if commands.shape[-1] > values else 0.0
        self._step(state.batch, self.scratch.scratch, state, after, commands, coasts, dt_s)
        return after

    def sense(self, state: IdealState) -> Floats:
        """Return what the robots' sensors say, B + (S,) float64, as `pivrex.line.input_stages.sensed_columns` orders it."""
        sensed: SensedRow = self._sensed.start(state.batch)
        self._sense(state.batch, self.scratch.scratch, state, sensed)
        return sensed.data

    def truth(self, state: IdealState) -> Floats:
        """Return what is true of the robots, B + (T,), as `pivrex.line.input_stages.truth_columns` orders it. In the line of a rig with
        a real body the battery is as it should be, nothing slips, and no one knows the loads.
        """
        true: TruthRow = self._truth.start(state.batch)
        self._tell(state.batch, state, true)
        return true.data
