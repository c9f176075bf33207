"""A robot and its controls, whole: what a rig file describes."""

from __future__ import annotations

from typing import Annotated

import numpy as np
from pydantic import Field, field_validator

from pivrex.rig.attachments import Attachment
from pivrex.rig.base import Table
from pivrex.rig.bindings import Binding
from pivrex.rig.channels import CHANNELS, is_one_sided
from pivrex.rig.chassis import Chassis, Name
from pivrex.rig.controls import Axis, Law, Limits, Shaping, SpeedLevels, same_stick
from pivrex.rig.geometry import impossible_motion
from pivrex.rig.motors import Motor
from pivrex.rig.outputs import Output
from pivrex.rig.patches import deed_mistakes
from pivrex.rig.plane import Gyro, Plane, UpsideDown
from pivrex.rig.quantities import Quantity
from pivrex.rig.sources import Link, RigSource
from pivrex.rig.steering import Steering, SteeringMotor, steering_name

__all__ = ["Rig"]

REST_MAY_READ = 0.05
"""What a resting trigger may read at most; a calibration by which it reads more drives by itself."""


class Rig(Table):
    """One robot with its controls.

    Checks between tables stand in `mistakes`; each runs only when the tables it compares are right by themselves.
    """

    name: Name = Field(description="The robot's name.", examples=["Plover"])
    about: str = Field(default="", description="One line about it.", examples=["two driven wheels and a caster"])
    rate_hz: Annotated[float, Quantity("frequency", at_least=20, at_most=200)] = Field(
        default=60.0, alias="rate", description="How often a second the line is computed.", examples=["60 Hz"]
    )
    lag_s: Annotated[float, Quantity("time", at_least=0, at_most=5)] = Field(
        default=0.1,
        alias="lag",
        description="How long the wheels take to follow (time constant), for the stand-in. A steering motor, which pushes no "
        "robot, takes a quarter of it; a robot that coasts eight times as long.",
        examples=["100 ms"],
    )
    chassis: Chassis = Field(description="The body and its wheels.")
    motors: dict[Name, Motor] = Field(description="The motors that drive the wheels, by name.")
    steering: Steering | None = Field(default=None, description="The steered wheels, if there are any.")
    gyro: Gyro | None = Field(default=None, description="The gyro, if the robot has one.")
    upside_down: UpsideDown | None = Field(
        default=None, description="For a robot that also runs lying on its back, and senses it."
    )
    axes: dict[Name, Axis] = Field(
        default_factory=dict,
        description="Calibration of each axis; one that is left out reads -1 to 1 (a trigger 0 to 1).",
    )
    shaping: Shaping = Field(default=Shaping(), description="From fractions to fractions.")
    law: Law = Field(description="What the sticks mean.")
    plane: Plane = Field(default=Plane(), description="How the law planar is meant.")
    limits: Limits = Field(default=Limits(), description="What gives way when it is too much.")
    speed_levels: SpeedLevels = Field(default=SpeedLevels(), description="Speed levels chosen while driving.")
    sources: dict[Name, RigSource] = Field(
        default_factory=dict,
        description="Sources beside keys, drawn sticks and gamepads: what the team has built or found.",
    )
    attachments: dict[Name, Attachment] = Field(
        default_factory=dict, description="What the robot has beside its wheels."
    )
    bindings: tuple[Binding, ...] = Field(
        default=(), description="What buttons, triggers, sticks and bits do beside the law."
    )
    link: Link | None = Field(
        default=None, description="Where the real robot is; without it there is only the stand-in."
    )

    @field_validator("axes", mode="after")
    @classmethod
    def _triggers_begin_where_they_rest(cls, axes: dict[str, Axis]) -> dict[str, Axis]:
        return {name: axis.of_channel(axis.channel or name) for name, axis in axes.items()}

    def mistakes(self) -> list[tuple[str, str]]:
        return [
            *self._motor_mistakes(),
            *self._steering_mistakes(),
            *self._axis_mistakes(),
            *self._button_mistakes(),
            *self._law_mistakes(),
            *self._pin_mistakes(),
            *deed_mistakes(self),
        ]

    def _motor_mistakes(self) -> list[tuple[str, str]]:
        found = []
        wheels = {wheel.name: wheel for wheel in self.chassis.wheels}
        driven: dict[str, str] = {}
        for name, motor in self.motors.items():
            for i, wheel in enumerate(motor.wheels):
                if wheel not in wheels:
                    found.append((f"motors.{name}.wheels.{i}", f'is "{wheel}", but the chassis has {_listed(wheels)}'))
                elif wheel in driven:
                    found.append(
                        (
                            f"motors.{name}.wheels.{i}",
                            f'is "{wheel}", which motor {driven[wheel]} turns already',
                        )
                    )
                driven.setdefault(wheel, name)
            known = [wheels[w] for w in motor.wheels if w in wheels]
            if len({w.y_m for w in known}) > 1 and self.chassis.shape == "two-sided":
                found.append(
                    (
                        f"motors.{name}.wheels",
                        "are on both sides; they need different speeds when the robot turns",
                    )
                )
            elif len(known) > 1 and self.chassis.shape != "two-sided" and not self._alike([w.name for w in known]):
                found.append(
                    (
                        f"motors.{name}.wheels",
                        "need different speeds for one motion of the robot, but one motor turns them at one rate",
                    )
                )
            if len({w.radius_m for w in known}) > 1:
                found.append((f"motors.{name}.wheels", "have different radii, but one motor turns them at one rate"))
        idle = [name for name in wheels if name not in driven]
        if idle:
            found.append(("motors", f"turn no wheel {_listed(idle)}; every wheel of the chassis needs a motor"))
        return found

    def _alike(self, wheels: list[str]) -> bool:
        """Tell whether wheels that are not steered run at one speed in every motion."""
        names = [w.name for w in self.chassis.wheels]
        geometry = self.chassis.geometry
        rows = [geometry.rows[geometry.of_wheel == names.index(w)] for w in wheels]
        return all(r.shape[0] == 1 and np.allclose(r, rows[0]) for r in rows)

    def _steering_mistakes(self) -> list[tuple[str, str]]:
        found = []
        steered = [w.name for w in self.chassis.wheels if w.steered]
        motors = self.steering.wheels if self.steering is not None else {}
        for name in motors:
            if name not in steered:
                what = (
                    "which is not steered"
                    if name in [w.name for w in self.chassis.wheels]
                    else "which the chassis has not"
                )
                found.append((f"steering.wheels.{name}", f"is for a wheel {what}; steered are {_listed(steered)}"))
            if steering_name(name) in self.motors:
                found.append(
                    (f"motors.{steering_name(name)}", "has the name of a steering motor; call it something else")
                )
        missing = [name for name in steered if name not in motors]
        if missing:
            key = "steering.wheels" if self.steering is not None else "steering"
            found.append(
                (key, f'has no motor for the steered wheel {_listed(missing)}; add [steering.wheels."{missing[0]}"]')
            )
        return found

    def _button_mistakes(self) -> list[tuple[str, str]]:
        """A button does one thing."""
        used = {self.channel(a): f"law.{role}" for role, a in self.law.axes().items()}
        found = []
        for key, button in self.buttons().items():
            if button in used:
                found.append((key, f'is "{button}", which {used[button]} reads already'))
            used.setdefault(button, key)
        return found

    def _law_mistakes(self) -> list[tuple[str, str]]:
        found = []
        geometry = self.chassis.geometry
        wanted = {"forward": (1.0, 0.0, 0.0), "turn": (0.0, 0.0, 1.0)}
        if self.law.kind == "planar":
            wanted["sideways"] = (0.0, 1.0, 0.0)
        for function, twist in wanted.items():
            asked = np.array(twist)
            got = geometry.followed(asked)
            # a law that does not speak of sideways leaves it to the chassis: a driven axle off the centre turns about itself
            part = slice(None) if self.law.kind == "planar" else [0, 2]
            if not np.allclose(got[part], asked[part], rtol=0, atol=1e-6):
                motion = impossible_motion(asked)
                reason = (
                    "its wheels only roll straight ahead"
                    if self.chassis.shape == "two-sided"
                    else "its plain wheels would be dragged aside"
                    if geometry.drags
                    else "no wheel of it drives that way"
                )
                if function == "turn" and geometry.can(np.array([0.0, 0.0, 1.0]) - _aside(got)):
                    reason = "it turns about a point that is not its centre, and would move sideways"
                found.append(
                    (
                        "law.kind",
                        f'is "{self.law.kind}", which asks for {motion}, but this chassis cannot do that: {reason}',
                    )
                )
        if self.law.full_left_m_s is not None and self.law.kind != "planar":
            found.append(("law.full_left", f"is given, but the law {self.law.kind} does not move sideways"))
        found += self._direction_mistakes()
        if self.limits.fit == "clip" and self.limits.first != "both":
            found.append(
                (
                    "limits.first",
                    f'is "{self.limits.first}", but fit = "clip" cuts each wheel by itself, whatever comes first',
                )
            )
        if self.law.kind != "planar" and self.plane != Plane():
            found.append(("plane", f'is given, but the law is "{self.law.kind}"; only "planar" reads it'))
        if self.gyro is None and (self.plane.frame == "field" or self.plane.switch):
            key = "plane.frame" if self.plane.frame == "field" else "plane.switch"
            found.append((key, "needs to know the heading, but the rig has no gyro; add a table [gyro]"))
        return found

    def _direction_mistakes(self) -> list[tuple[str, str]]:
        if self.shaping.direction == "free":
            return []
        if self.law.kind != "planar":
            return [("shaping.direction", f'is "kept", but the law is "{self.law.kind}"; only "planar" moves any way')]
        if self.shaping.measure == "axis":
            return [
                (
                    "shaping.direction",
                    'is "kept", but measure = "axis" turns a push at the edge of the dead band; say "stick"',
                )
            ]
        axes = self.law.axes()
        if not same_stick(self.channel(axes["forward"]), self.channel(axes["sideways"])):
            return [
                ("shaping.direction", 'is "kept", but forward and sideways are not the two directions of one stick')
            ]
        return []

    def _axis_mistakes(self) -> list[tuple[str, str]]:
        found = []
        for name, axis in self.axes.items():
            if axis.source not in ("chosen", "gamepad", "keys", "sticks", *self.sources):
                known = ", ".join(["chosen", "gamepad", "keys", "sticks", *self.sources])
                found.append((f"axes.{name}.source", f'is "{axis.source}", but the sources are {known}'))
            elif axis.source in self.sources and self.channel(name) not in self.sources[axis.source].channels():
                there = ", ".join(self.sources[axis.source].channels())
                found.append((f"axes.{name}.channel", f'is "{self.channel(name)}", but {axis.source} has {there}'))
            if not axis.channel and name not in CHANNELS:
                found.append(
                    (
                        f"axes.{name}",
                        f'names no channel; give it one, such as channel = "left_y", or call it by its channel ({", ".join(CHANNELS[:4])}, ...)',
                    )
                )
            if is_one_sided(self.channel(name)) and axis.source not in self.sources and not axis.reversed:
                # a trigger of a gamepad, of keys or of a stick on the screen rests at 0
                rest = (0.0 - axis.minimum) / (axis.maximum - axis.minimum)
                if rest > REST_MAY_READ:
                    found.append(
                        (
                            f"axes.{name}.minimum",
                            f"is {axis.minimum:g}, but a trigger rests at 0, which would read {rest:.2f}; leave it out or say 0",
                        )
                    )
            if is_one_sided(self.channel(name)) and axis.centre is not None:
                found.append(
                    (
                        f"axes.{name}.centre",
                        "is given, but a trigger or button rests at one end and has no centre",
                    )
                )
        for role, name in self.law.axes().items():
            if name not in self.axes and name not in CHANNELS:
                found.append(
                    (
                        f"law.{role}",
                        f'is "{name}", which is neither an axis of this rig ({_listed(self.axes)}) nor a channel',
                    )
                )
                return found
            one_sided = is_one_sided(self.channel(name))
            if role in ("ahead", "back") and not one_sided:
                found.append((f"law.{role}", f'reads "{name}", a stick; it needs a trigger or a button'))
            if role not in ("ahead", "back") and one_sided:
                found.append((f"law.{role}", f'reads "{name}", which goes only one way; it needs a stick'))
        axes = self.law.axes()
        channels: dict[str, str] = {}
        for role, name in axes.items():
            other = channels.setdefault(self.channel(name), role)
            if other != role and not found:
                found.append(
                    (
                        f"law.{role}",
                        f'reads the channel "{self.channel(name)}", which law.{other} reads already',
                    )
                )
        if self.law.kind in ("arcade", "split arcade") and not found:
            one = same_stick(self.channel(axes["forward"]), self.channel(axes["turn"]))
            if self.law.kind == "arcade" and not one:
                found.append(("law.turn", 'reads another stick than law.forward; that is the law "split arcade"'))
            if self.law.kind == "split arcade" and one:
                found.append(("law.turn", 'reads the same stick as law.forward; that is the law "arcade"'))
        return found

    def _pin_mistakes(self) -> list[tuple[str, str]]:
        found = []
        used: dict[str, str] = {}
        places_of = {key: {**o.pins(), **({"port": o.port} if o.port else {})} for key, o in self.outputs().items()}
        for name, attachment in self.attachments.items():
            out = attachment.output
            places_of[f"attachments.{name}"] = {**out.pins(), **({"port": out.port} if out.port else {})}
        for key, places in places_of.items():
            for role, pin in places.items():
                word = f"port {pin}" if role == "port" else f"pin {pin}"
                if word in used:
                    found.append((f"{key}.output.{role}", f"is {word}, which {used[word]} uses already"))
                used.setdefault(word, f"{key}.output.{role}")
        return found

    def all_motors(self) -> dict[str, Motor | SteeringMotor]:
        """Give every motor by its key in the file, those that drive before those that steer."""
        found: dict[str, Motor | SteeringMotor] = {f"motors.{name}": motor for name, motor in self.motors.items()}
        for wheel in self.steered:
            found[f"steering.wheels.{wheel}"] = self.steering.wheels[wheel]  # type: ignore[union-attr]
        return found

    @property
    def motor_names(self) -> tuple[str, ...]:
        """The names of all motors, those that drive before those that steer, in the order of `all_motors`."""
        return (*self.motors, *(steering_name(w) for w in self.steered))

    def outputs(self) -> dict[str, Output]:
        """Give every output by the key of its motor, in the order of `all_motors`."""
        return {key: motor.output for key, motor in self.all_motors().items()}

    def buttons(self) -> dict[str, str]:
        """Give the buttons in use beside the law's axes, by the key that names them."""
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
        """Give the calibration of an axis; the plain one if the file has none for it."""
        if name in self.axes:
            return self.axes[name]
        return Axis.model_validate({"minimum": 0.0} if is_one_sided(name) else {})

    def axis_of(self, source: str, channel: str) -> Axis:
        """Give the calibration of a source's channel; of a source without its own the one that [axes] has."""
        if source in self.sources:
            found = self.sources[source].axes.get(channel)
            if found is not None:
                return found
        for name, axis in self.axes.items():
            if (axis.channel or name) == channel and axis.source in (source, "chosen"):
                return axis
        return Axis.model_validate({"minimum": 0.0} if is_one_sided(channel) else {})

    def channel(self, axis_name: str) -> str:
        """Give the channel that an axis reads."""
        axis = self.axes.get(axis_name)
        return axis.channel if axis is not None and axis.channel else axis_name

    @property
    def keeps_direction(self) -> bool:
        """Whether a push goes the way it points, whatever curve and full speeds are."""
        return self.law.kind == "planar" and self.shaping.direction == "kept"

    @property
    def dt_s(self) -> float:
        """The time of one tick."""
        return 1.0 / self.rate_hz

    def wheel_top_m_s(self, wheel_name: str) -> float:
        """The fastest that a wheel can roll."""
        motor = next(m for m in self.motors.values() if wheel_name in m.wheels)
        radius = next(w.radius_m for w in self.chassis.wheels if w.name == wheel_name)
        return motor.wheel_top_rad_s * radius

    def fastest(self, motion: tuple[float, float, float]) -> float:
        """Give how many times a twist the slowest wheel allows, with nothing else asked for; 0 if none of it."""
        geometry = self.chassis.geometry
        needed = np.zeros(len(self.chassis.wheels))
        clean = geometry.clean if geometry.drags else np.eye(3)
        np.add.at(needed, geometry.of_wheel, (geometry.rows @ clean @ np.array(motion)) ** 2)
        tops = np.array([self.wheel_top_m_s(w.name) for w in self.chassis.wheels])
        driven = needed > 1e-18
        return float((tops[driven] / np.sqrt(needed[driven])).min()) if driven.any() else 0.0

    @property
    def full_forward_m_s(self) -> float:
        """What a forward fraction of 1 asks for; by default what the slowest wheel at full drive allows."""
        return self.law.full_forward_m_s or self.fastest((1, 0, 0))

    @property
    def full_left_m_s(self) -> float:
        """What a sideways fraction of 1 asks for; by default what the slowest wheel at full drive allows."""
        return self.law.full_left_m_s or self.fastest((0, 1, 0))

    @property
    def full_turn_rad_s(self) -> float:
        """What a turn fraction of 1 asks for; by default the fastest turn on the spot (two-sided: 2·V/track)."""
        return self.law.full_turn_rad_s or self.fastest((0, 0, 1))


def _aside(twist: np.ndarray) -> np.ndarray:
    return np.array([0.0, -float(twist[1]), 0.0])


def _listed(names: object) -> str:
    return ", ".join(f'"{name}"' for name in names) or "none"  # type: ignore[attr-defined]
