"""The tables of a rig file, and values that follow from them. `between` finds mistakes between tables."""

from __future__ import annotations

from contextlib import suppress
from typing import Annotated, Any, Self

import numpy as np
from pydantic import Field, ValidationError, field_validator, model_validator

from pivrex.errors import PivrexError
from pivrex.rig.attachments import Attachment
from pivrex.rig.balance import Balance, Tilt
from pivrex.rig.base import Table
from pivrex.rig.bindings import Binding
from pivrex.rig.body import Battery, Body
from pivrex.rig.channels import is_one_sided
from pivrex.rig.chassis import Bench, Chassis, Name, bench_of
from pivrex.rig.controls import Axis, Law, Limits, Shaping, SpeedLevels, on_bench
from pivrex.rig.correction import Correction
from pivrex.rig.following import Following
from pivrex.rig.motors import Motor
from pivrex.rig.odometry import Odometry
from pivrex.rig.outputs import Output
from pivrex.rig.own_board import Board
from pivrex.rig.plane import Gyro, Plane, UpsideDown
from pivrex.rig.quantities import Quantity
from pivrex.rig.sensors import Sensor
from pivrex.rig.sources import RigSource
from pivrex.rig.spread import Spread
from pivrex.rig.steering import Steering, SteeringMotor, steering_name
from pivrex.rig.transports import Link
from pivrex.rig.wheel_control import WheelControl

__all__ = ["RigTables"]


class RigTables(Table):
    """One robot with its controls, table by table."""

    name: Name = Field(description="The robot's name.", examples=["Plover"])
    about: str = Field(default="", description="One line about it.", examples=["two driven wheels and a caster"])
    rate_hz: Annotated[float, Quantity("frequency", at_least=20, at_most=200)] = Field(
        default=60.0, alias="rate", description="How often per second the line is computed.", examples=["60 Hz"]
    )
    key: str = Field(
        default="",
        pattern=r"^$|^[\w][\w .-]{0,60}$",
        description="The file next to this one that holds the rig's key; `pivrex key RIG` makes both. With it packets, framed "
        "letters, outputs and sensed values count only if they are sealed with it.",
        examples=["plover.key"],
    )
    lag_s: Annotated[float, Quantity("time", at_least=0, at_most=5)] = Field(
        default=0.1,
        alias="lag",
        description="How long the wheels take to follow (time constant), for the simulated robot. A steering motor, which pushes no "
        "robot, takes a quarter of it; a robot that coasts eight times as long.",
        examples=["100 ms"],
    )
    chassis: Chassis = Field(
        description="The body and its wheels. Left out on a bench: then each motor is driven by a channel of its own."
    )
    body: Body | None = Field(default=None, description="How the simulated robot moves; without it, as an ideal one.")
    spread: Spread = Field(
        default=Spread(), description="How much one drive of the simulated robot differs from another, for rehearsals."
    )
    battery: Battery = Field(default=Battery(), description="The battery of a simulated robot with realistic physics.")
    motors: dict[Name, Motor] = Field(description="The motors that drive the wheels, by name.")
    steering: Steering | None = Field(default=None, description="The steered wheels, if there are any.")
    gyro: Gyro | None = Field(default=None, description="The gyro, if the robot has one.")
    correction: Correction | None = Field(
        default=None, description="How the gyro corrects the heading; without it nothing does."
    )
    following: Following = Field(default=Following(), description="How paths are driven.")
    odometry: Odometry = Field(default=Odometry(), description="How the robot estimates where it is.")
    control: WheelControl | None = Field(
        default=None, description="How wheel speeds become drive; without it drive is the share of top speed."
    )
    tilt: Tilt | None = Field(default=None, description="The tilt sensor, if the robot has one.")
    balance: Balance | None = Field(default=None, description="How a robot on one axle stays upright.")
    upside_down: UpsideDown | None = Field(
        default=None, description="For a robot that also runs lying on its back, and senses it."
    )
    sensors: dict[Name, Sensor] = Field(
        default_factory=dict, description="Sensors other than encoders and gyro, by name."
    )
    axes: dict[Name, Axis] = Field(
        default_factory=dict,
        description="Calibration of each axis; one that is left out reads -1 to 1 (a trigger 0 to 1).",
    )
    shaping: Shaping = Field(default=Shaping(), description="From fractions to fractions.")
    law: Law = Field(
        description="What the sticks mean. On a bench it may be left out: each motor has a channel of its own."
    )
    plane: Plane = Field(default=Plane(), description="How the law planar is meant.")
    limits: Limits = Field(default=Limits(), description="What is reduced when a wheel would be too fast.")
    speed_levels: SpeedLevels = Field(default=SpeedLevels(), description="Speed levels chosen while driving.")
    sources: dict[Name, RigSource] = Field(
        default_factory=dict,
        description="Sources other than keys, sticks on the screen and gamepads: what the team has built or found.",
    )
    attachments: dict[Name, Attachment] = Field(
        default_factory=dict, description="What the robot has in addition to its wheels."
    )
    bindings: tuple[Binding, ...] = Field(
        default=(), description="What buttons, triggers, sticks and bits do in addition to the law."
    )
    moves: str = Field(
        default="",
        pattern=r"^$|^[\w -]{1,60}$",
        description="The routine whose own moves a button may do (`do pour with seconds 2 s`), by the name of its file.",
        examples=["greenhouse-moves"],
    )
    board: Board = Field(default=Board(), description="The board on the robot, for `pivrex board`.")
    link: Link | None = Field(
        default=None, description="Where the real robot is; without it there is only the simulated robot."
    )

    @model_validator(mode="before")
    @classmethod
    def _on_a_bench(cls, data: Any) -> Any:
        """Where a rig has no chassis, put its motors on a bench: each with a wheel and a channel of its own."""
        motors = data.get("motors") if isinstance(data, dict) and "chassis" not in data else None
        if not isinstance(motors, dict) or not all(isinstance(m, dict) for m in motors.values()):
            return data
        with suppress(ValidationError):  # an unknown name; another check reports it
            law, shaping = data.get("law", {}), data.get("shaping", {})
            if isinstance(shaping, dict) and isinstance(shaping.get("motors", {}), dict):
                shaping = {**shaping, "motors": {**{name: {} for name in motors}, **shaping.get("motors", {})}}
            return {
                **data,
                "chassis": bench_of(motors),
                "motors": {name: {"wheels": (name,), **motor} for name, motor in motors.items()},
                "law": law if not isinstance(law, dict) else on_bench(law, motors),
                "shaping": shaping,
            }
        return data

    @property
    def is_bench(self) -> bool:
        """Whether it has no chassis: only motors, each by itself."""
        return isinstance(self.chassis, Bench)

    def must_drive(self) -> Self:
        """Return this rig; raises `PivrexError` for a bench, of which there is nothing to say that needs a robot."""
        if self.is_bench:
            raise PivrexError(
                f"{self.name} is a bench: motors without a robot; that needs a rig with a table [chassis]"
            )
        return self

    @property
    def way_unit(self) -> str:
        """The unit in which wheels roll: m; on a bench rad, for there is no floor."""
        return "rad" if self.is_bench else "m"

    @field_validator("axes", mode="after")
    @classmethod
    def _triggers_begin_where_they_rest(cls, axes: dict[str, Axis]) -> dict[str, Axis]:
        return {name: axis.of_channel(axis.channel or name) for name, axis in axes.items()}

    def all_motors(self) -> dict[str, Motor | SteeringMotor]:
        """Return every motor by its key in the file, those that drive before those that steer."""
        found: dict[str, Motor | SteeringMotor] = {f"motors.{name}": motor for name, motor in self.motors.items()}
        for wheel in self.steered:
            found[f"steering.wheels.{wheel}"] = self.steering.wheels[wheel]  # type: ignore[union-attr]
        return found

    @property
    def motor_names(self) -> tuple[str, ...]:
        """The names of all motors, those that drive before those that steer, in the order of `all_motors`."""
        return (*self.motors, *(steering_name(w) for w in self.steered))

    def outputs(self) -> dict[str, Output]:
        """Return every output by the key of its motor, in the order of `all_motors`."""
        return {key: motor.output for key, motor in self.all_motors().items()}

    def coasts_at_zero(self, output: Output) -> bool:
        """Return whether a motor rolls freely while its driver gets nothing; else it brakes."""
        return output.kind == "three pins" or getattr(self.body, "at_zero", "brake") == "coast"

    def buttons(self) -> dict[str, str]:
        """Return the buttons in use in addition to the law's axes, by the key that names them."""
        keys = {
            "speed_levels.up": self.speed_levels.up,
            "speed_levels.down": self.speed_levels.down,
            "plane.switch": self.plane.switch,
            "plane.forward": self.plane.forward,
            "plane.next_point": self.plane.next_point,
            "steering.hold": self.steering.hold if self.steering is not None else "",
        }
        return {key: button for key, button in keys.items() if button}

    @property
    def steered(self) -> tuple[str, ...]:
        """The names of the steered wheels, in the order of the chassis."""
        motors = self.steering.wheels if self.steering is not None else {}
        return tuple(w.name for w in self.chassis.wheels if w.steered and w.name in motors)

    def axis(self, name: str) -> Axis:
        """Return the calibration of an axis; the plain one if the file has none for it."""
        if name in self.axes:
            return self.axes[name]
        return Axis.model_validate({"minimum": 0.0} if is_one_sided(name) else {})

    def axis_of(self, source: str, channel: str) -> Axis:
        """Return the calibration of a source's channel; of a source without its own the one that [axes] has."""
        if source in self.sources:
            found = self.sources[source].axes.get(channel)
            if found is not None:
                return found
        for name, axis in self.axes.items():
            if (axis.channel or name) == channel and axis.source in (source, "chosen"):
                return axis
        return Axis.model_validate({"minimum": 0.0} if is_one_sided(channel) else {})

    def channel(self, axis_name: str) -> str:
        """Return the channel that an axis reads."""
        axis = self.axes.get(axis_name)
        return axis.channel if axis is not None and axis.channel else axis_name

    @property
    def keeps_direction(self) -> bool:
        """Whether a push goes the way it points, whatever curve and full speeds are."""
        return self.law.kind == "planar" and self.shaping.direction == "kept"

    @property
    def has_realistic_physics(self) -> bool:
        """Whether the simulated robot has mass, motors, a battery and tyres."""
        return self.body is not None and self.body.kind == "realistic"

    @property
    def may_lean(self) -> bool:
        """Whether its body leans in what it does: it balances, or tyres that hold turn it over before they slide."""
        if not self.has_realistic_physics or self.body is None:
            return False
        places = [w.x_m for w in self.chassis.wheels] + [c.x_m for c in self.chassis.casters]
        near = min(max(places) - self.chassis.mass_centre.x_m, self.chassis.mass_centre.x_m - min(places))
        return self.balance is not None or 0.0 < near < self.body.grip * self.body.high_m(self.chassis)

    def with_body(self, kind: str) -> Self:
        """Return this rig with ``"realistic"`` or ``"ideal"`` physics; a robot that balances keeps the realistic ones."""
        kind = "realistic" if self.balance is not None else kind  # a robot without mass cannot balance
        body = (self.body or Body()).model_copy(update={"kind": kind})
        return self.model_copy(update={"body": body})

    @property
    def dt_s(self) -> float:
        """The time of one tick."""
        return 1.0 / self.rate_hz

    @property
    def asks_every(self) -> int:
        """In every how manieth tick the command is computed: 1 but for a robot that balances, whose loops run at `rate`."""
        return round(self.rate_hz / self.balance.asking_rate_hz) if self.balance is not None else 1

    @property
    def ask_dt_s(self) -> float:
        """The time between two ticks in which the command is computed."""
        return self.dt_s * self.asks_every

    def wheel_top_m_s(self, wheel_name: str) -> float:
        """The fastest that a wheel can roll."""
        motor = next(m for m in self.motors.values() if wheel_name in m.wheels)
        radius = next(w.radius_m for w in self.chassis.wheels if w.name == wheel_name)
        return motor.wheel_top_rad_s * radius

    def fastest(self, motion: tuple[float, float, float]) -> float:
        """Return how many times a twist the slowest wheel allows, with nothing else commanded; 0 if none of it."""
        geometry = self.chassis.geometry
        needed = np.zeros(len(self.chassis.wheels))
        clean = geometry.clean if geometry.drags else np.eye(3)
        np.add.at(needed, geometry.of_wheel, (geometry.rows @ clean @ np.array(motion)) ** 2)
        tops = np.array([self.wheel_top_m_s(w.name) for w in self.chassis.wheels])
        driven = needed > 1e-18
        return float((tops[driven] / np.sqrt(needed[driven])).min()) if driven.any() else 0.0

    @property
    def full_forward_m_s(self) -> float:
        """The speed of a forward fraction of 1; by default the speed that the slowest wheel allows at full drive."""
        return self.law.full_forward_m_s or self.fastest((1, 0, 0))

    @property
    def full_left_m_s(self) -> float:
        """The speed of a sideways fraction of 1; by default the speed that the slowest wheel allows at full drive."""
        return self.law.full_left_m_s or self.fastest((0, 1, 0))

    @property
    def full_turn_rad_s(self) -> float:
        """The speed of a turn fraction of 1; by default the fastest turn on the spot (two-sided: 2·V/track)."""
        return self.law.full_turn_rad_s or self.fastest((0, 0, 1))
