"""Common parts of every simulated robot: motors on ports, encoders, absolute sensors, arms."""

from __future__ import annotations

from typing import Any, NamedTuple, TypeVar

import numpy as np
from numpy.typing import NDArray

from pivrex.kernels.maths import clamp, mod, pi, rint
from pivrex.kernels.records import Flags, Form, Number, Numbers, Record, Wholes, field
from pivrex.kernels.subset import kernel
from pivrex.line.input_stages import SensedRow, sensed_form, truth_form
from pivrex.line.outputs import DIRECTION, FORWARD, NUMBER, settings_of
from pivrex.line.seeing import Seeing
from pivrex.line.stage import Floats
from pivrex.rig.attachments import Encoded, MotorAttachment, has_shaft, reach_of
from pivrex.rig.field import Field, Start
from pivrex.rig.rig import Rig
from pivrex.rig.steering import steering_name
from pivrex.sim.chance import draw
from pivrex.sim.wiring import Wiring, ports_of, wiring_of

__all__ = [
    "STEER_LAG",
    "Fitted",
    "FittedSettings",
    "Shafts",
    "absolute_reading",
    "carried_over",
    "carry",
    "decode",
    "sense_fitted",
    "target_speed",
]  # fmt: skip

Standing = TypeVar("Standing", bound=Record)

SWITCHED_ON = (0.35, -0.2, 0.5, -0.4)
"""Where steered wheels with absolute sensors happen to point when the robot is switched on, in rad."""

SEEN_M_S, SEEN_RAD_S = 0.02, 0.1

STEER_LAG = 0.25
"""How much quicker than a wheel under load a steering motor follows."""

HALF_WAY = 0.5
"""A direction is read on from here."""

CARRIED_OVER = ("pose", "travel", "begin", "angle", "lifted", "upside_down", "attached")


class FittedSettings(Record):
    """The meaning of V commands for D drives, and the sensors of W wheels, S of them steered, and P arms: attachments with an encoder, those
    that go to a position before those that only turn.

    Attributes
    ----------
    source : (V,)
        The drive of each value.
    level : (V,)
        Whether a value is a number or a pin that says which way; see `pivrex.line.outputs`.
    rest, above, below : (V,)
        A value's rest, and the drive for each unit above and below it.
    rolls, turns : (W,), (S,)
        The signs of the encoders of wheels and steering.
    full, sense, offset : (S,)
        Of the absolute sensors: what they count to, their sign, and what they read straight ahead in rad.
    arm, arm_top, arm_least, arm_begin, arm_low, arm_high : (P,)
        The drive of each, its speed at full drive in rad/s, the drive below which it stands, where it begins and its stops in rad.
    gyro_sign, up_sign, tilt_sign, volts : float
        Signs of gyro, side sensor and tilt sensor, and what the battery of a perfect robot has.
    coasts : (D,) flags
        Whether a driver that gets nothing lets its motor roll.
    """

    is_settings = True

    source: Wholes = field("values")
    level: Wholes = field("values")
    rest: Numbers = field("values")
    above: Numbers = field("values")
    below: Numbers = field("values")
    rolls: Numbers = field("wheels")
    turns: Numbers = field("steered")
    full: Numbers = field("steered")
    sense: Numbers = field("steered")
    offset: Numbers = field("steered", unit="rad")
    arm: Wholes = field("arms")
    arm_top: Numbers = field("arms", unit="rad/s")
    arm_least: Numbers = field("arms")
    arm_begin: Numbers = field("arms", unit="rad")
    arm_low: Numbers = field("arms", unit="rad")
    arm_high: Numbers = field("arms", unit="rad")
    gyro_sign: Number = field()
    up_sign: Number = field()
    tilt_sign: Number = field()
    volts: Number = field(unit="V")
    coasts: Flags = field("drives")


class Shafts(Record):
    """N motors.

    Attributes
    ----------
    slot : (N,)
        The drive that each obeys, -1 for none.
    top : (N,)
        Its speed at full drive, with its sign.
    sign : (N,)
        1 if a positive drive turns its wheel forward.
    lifted, loaded : (N,)
        The smallest drive that turns it with the wheels up, and on the floor.
    """

    is_settings = True

    slot: Wholes = field("shafts")
    top: Numbers = field("shafts")
    sign: Numbers = field("shafts")
    lifted: Numbers = field("shafts")
    loaded: Numbers = field("shafts")


@kernel
def decode(s: FittedSettings, commanded: Numbers, drive: Numbers, drives: int) -> None:
    """Write the drives, in [-1, 1], that the values mean which motor drivers are commanded: what encodes them, undone."""
    for k in range(drives):
        drive[k] = 0.0
    for v in range(len(s.source)):
        if s.level[v] == NUMBER:
            above_rest = commanded[v] - s.rest[v]
            drive[s.source[v]] += above_rest * (s.above[v] if above_rest > 0.0 else s.below[v])
    for v in range(len(s.source)):
        high = commanded[v] >= HALF_WAY
        if s.level[v] == DIRECTION and not high:
            drive[s.source[v]] = -drive[s.source[v]]
        elif s.level[v] == FORWARD:
            # its pin for backward comes next: equal pins give no drive
            backward = commanded[v + 1] >= HALF_WAY
            drive[s.source[v]] *= (1.0 if high else 0.0) - (1.0 if backward else 0.0)


@kernel
def is_released(s: FittedSettings, commanded: Numbers, slot: int) -> bool:
    """Return whether a driver lets its motor roll: it gets nothing, and does so then."""
    released = s.coasts[slot]
    for v in range(len(s.source)):
        released = released and (s.source[v] != slot or s.level[v] != NUMBER or commanded[v] == s.rest[v])
    return released


@kernel
def target_speed(s: Shafts, k: int, drive: Numbers, lifted: bool) -> float:
    """Return the speed that a motor's drive asks for: none where it is too small to turn anything."""
    if s.slot[k] < 0:
        return 0.0
    mine = drive[s.slot[k]]
    if abs(mine) < (s.lifted[k] if lifted else s.loaded[k]):
        return 0.0
    return mine * s.top[k]


@kernel
def carry(s: FittedSettings, drive: Numbers, dt: float, attached: Numbers) -> None:
    """Move attachments with an encoder for a tick: no farther than to their stops."""
    for k in range(len(s.arm)):
        mine = drive[s.arm[k]] if abs(drive[s.arm[k]]) >= s.arm_least[k] else 0.0
        attached[k] = clamp(attached[k] + mine * s.arm_top[k] * dt, s.arm_low[k], s.arm_high[k])


@kernel
def absolute_reading(s: FittedSettings, k: int, angle: float) -> float:
    """Return what the absolute sensor of a steered wheel reads: counts, or the share of its supply; 0 without one."""
    share = mod((s.sense[k] * angle + s.offset[k]) / (2.0 * pi), 1.0)
    if s.full[k] > 1.0:
        return mod(rint(share * s.full[k]), s.full[k])
    return share * s.full[k]


@kernel
def sense_fitted(
    s: FittedSettings, travel: Numbers, speed: Numbers, angle: Numbers, begin: Numbers, upside_down: bool, attached: Numbers,
    sensed: SensedRow,
) -> None:  # fmt: skip
    """Write what encoders, absolute sensors and the side sensor say."""
    for k in range(len(s.rolls)):
        sensed.travel[k], sensed.speed[k] = travel[k] * s.rolls[k], speed[k] * s.rolls[k]
    for k in range(len(s.turns)):
        sensed.turned[k] = (angle[k] - begin[k]) * s.turns[k]
        sensed.absolute[k] = absolute_reading(s, k, angle[k])
    for k in range(len(sensed.up)):
        sensed.up[k] = -s.up_sign if upside_down else s.up_sign
    for k in range(len(s.arm)):
        turned = attached[k] - s.arm_begin[k]
        if k < len(sensed.at):
            sensed.at[k] = turned
        else:
            sensed.shaft[k - len(sensed.at)] = turned


def carried_over(state: object, fresh: Standing) -> Standing:
    """Return `fresh`, a robot's state at rest, where another simulated robot's `state` is: what both know, if its shape is the same."""
    return fresh._replace(**{
        n: v for n in CARRIED_OVER if (v := getattr(state, n, None)) is not None and v.shape == getattr(fresh, n).shape
    })  # fmt: skip


class _Arm(NamedTuple):
    """An attachment with an encoder; see `FittedSettings`."""

    attachment: int
    reversed: bool
    top: float
    least: float
    begin: float
    low: float
    high: float


def _arm(i: int, a: Encoded) -> _Arm:
    reach = reach_of(a)
    begin, low, high = (value / reach.per_rad for value in (reach.begins, reach.low, reach.high))
    return _Arm(i, a.reversed, reach.rate / reach.per_rad, 0.0, begin, low, high)


class Fitted:
    """A robot that is not there, but for how it moves. It is wired as the rig says, or as a `Wiring` says that the rig knows
    nothing of. States are records with ``pose``, ``speed``, ``angle``, ``turning``, ``begin``, ``attached`` and more.
    """

    def __init__(self, rig: Rig, field: Field | None = None, wiring: Wiring | None = None) -> None:
        self.rig = rig
        self._start = field.start if field is not None else Start(x=0, y=0)
        self._said = wiring_of(rig)
        self._wiring = wiring if wiring is not None else self._said
        self._names = [w.name for w in rig.chassis.wheels]
        self._motor_of = {wheel: name for name, motor in rig.motors.items() for wheel in motor.wheels}
        steering = rig.steering.wheels if rig.steering is not None else {}
        self._steers = self._shafts(
            [steering_name(w) for w in rig.steered], [steering[w].top_rad_s for w in rig.steered]
        )
        self._seeing = Seeing(rig, field)
        self._sensed, self._truth = sensed_form(rig), truth_form(rig)
        sensors = [rig.steering.wheels[w].sensor if rig.steering is not None else None for w in rig.steered]
        self._known = bool(sensors) and all(s is not None for s in sensors)
        self.fitted = self._fitted(rig)
        self.drives = len(rig.motor_names) + len(rig.attachments)
        self.driven: Any = None
        """What drives it with its line, once it has driven; see `pivrex.sim.driving`."""

    def _shafts(self, motors: list[str], tops: list[float]) -> Shafts:
        slots = {port: k for k, port in enumerate(ports_of(self.rig))}
        sits = {motor: (slots.get(port, -1), sign) for port, (motor, sign) in self._wiring.plugs.items()}
        placed = [sits.get(m, (-1, 1.0)) for m in motors]
        # rounding must not keep a motor from turning at its smallest drive
        smallest = np.array([self._wiring.smallest.get(m, (0.0, 0.0)) for m in motors]).reshape(-1, 2) - 1e-9
        made: Shafts = Form(Shafts, shafts=len(motors)).of(
            slot=[slot for slot, _ in placed],
            top=[sign * top for (_, sign), top in zip(placed, tops, strict=True)],
            sign=[sign for _, sign in placed],
            lifted=smallest[:, 0],
            loaded=smallest[:, 1],
        )
        return made

    def _fitted(self, rig: Rig) -> FittedSettings:
        outputs, wiring = settings_of(rig), self._wiring
        # readings with the rig's signs: a sensor with a reversed sign is correct if the rig says so
        sense = {m: wiring.encoders.get(m, 1.0) * self._said.encoders[m] for m in rig.motor_names}
        sensors = [rig.steering.wheels[w].sensor if rig.steering is not None else None for w in rig.steered]
        each = list(enumerate(rig.attachments.values()))
        arms = [_arm(i, a) for i, a in each if isinstance(a, Encoded)]
        # rounding must not keep a motor from turning at its smallest drive
        arms += [
            _Arm(i, a.reversed, a.top_speed_rad_s, max(a.smallest - 1e-9, 0.0), 0.0, -np.inf, np.inf)
            for i, a in each
            if isinstance(a, MotorAttachment) and has_shaft(a)
        ]
        form = Form(
            FittedSettings,
            values=len(outputs.source),
            wheels=len(self._names),
            steered=len(rig.steered),
            arms=len(arms),
            drives=len(rig.motor_names) + len(rig.attachments),
        )
        made: FittedSettings = form.of(
            source=outputs.source,
            level=outputs.level,
            rest=outputs.rest,
            above=outputs.above,
            below=outputs.below,
            rolls=[sense[self._motor_of[w]] for w in self._names],
            turns=[sense[steering_name(w)] for w in rig.steered],
            full=[s.full if s is not None else 0.0 for s in sensors],
            sense=[wiring.senses.get(w, 1.0) for w in rig.steered],
            offset=[wiring.offsets.get(w, 0.0) for w in rig.steered],
            arm=[len(rig.motor_names) + a.attachment for a in arms],
            arm_top=[a.top * (-1.0 if a.reversed else 1.0) for a in arms],
            **{f"arm_{name}": [getattr(a, name) for a in arms] for name in ("least", "begin", "low", "high")},
            gyro_sign=wiring.gyro,
            up_sign=wiring.up,
            tilt_sign=wiring.tilt,
            volts=rig.battery.volts,
            coasts=[rig.coasts_at_zero(o) for o in rig.outputs().values()] + [False] * len(rig.attachments),
        )  # fmt: skip
        return made

    def _begin(self, batch: tuple[int, ...], seeds: NDArray[np.uint64] | None) -> tuple[Floats, Floats]:
        """Return the pose at the field's start, B + (3,), and where steered wheels point, B + (S,)."""
        begin = np.zeros((*batch, len(self.rig.steered)))
        if self._known:
            begin[...] = np.resize(SWITCHED_ON, begin.shape[-1])
            if seeds is not None:
                begin[...] = (draw(seeds, 0, begin.shape[-1]) * 2 - 1) * pi
        pose = np.empty((*batch, 3))
        pose[...] = self._start.x_m, self._start.y_m, self._start.heading_rad
        return pose, begin

    def point_ahead(self, state: Any) -> Any:
        """Turn all steered wheels straight ahead by hand."""
        return state._replace(angle=0.0, turning=0.0)

    def _dragged(self, state: Any) -> NDArray[np.bool_]:
        """Return, (W,), which wheels of one robot are turned by the floor and not by their motors."""
        return np.zeros(state.speed.shape, bool)

    def seen(self, state: Any) -> str:
        """Return what moves of one robot to the eye, whatever the sensors say; empty if nothing does."""
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
